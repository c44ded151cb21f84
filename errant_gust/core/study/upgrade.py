"""Documents of earlier versions, made into those of today as they are read."""

from collections.abc import Callable
from typing import Any

VERSION = 1
LOOKS = {"from": "first", "to": "last"}


def _upgrade_0(data: dict[str, Any]) -> dict[str, Any]:
    """Version 0 kept the clock as bare numbers beside the name."""
    clock = {key: data.pop(key) for key in ("fps", "start", "end") if key in data}
    return {**data, "version": 1, **({"clock": clock} if clock else {})}


UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {0: _upgrade_0}


def upgraded(data: dict[str, Any], version: int) -> dict[str, Any]:
    """The document as of `VERSION`; what it was made of is left as it is."""
    while version < VERSION:
        data = UPGRADES[version](dict(data))
        version = data["version"]
    flows, looks = data.get("flows"), data.get("looks")
    if isinstance(flows, list):  # there was but one kind once, and lanes did not say so
        data = {**data, "flows": [_with_kind(flow) for flow in flows]}
    if isinstance(looks, dict):
        data = {**data, "looks": {id: _renamed(look) for id, look in looks.items()}}
    return data


def _with_kind(flow: Any) -> Any:
    return {**flow, "kind": "particles"} if isinstance(flow, dict) and "kind" not in flow else flow


def _renamed(look: Any) -> Any:
    return {LOOKS.get(k, k): v for k, v in look.items()} if isinstance(look, dict) else look
