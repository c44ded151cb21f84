"""Documents of earlier versions, made into those of today as they are read."""

from collections.abc import Callable
from typing import Any

VERSION = 2
LOOKS = {"from": "first", "to": "last"}
PARAMETERS = {"mask_shape": {"magnitude": "strength", "attenuation": "fade_over"}}
"""Parameters of steps of fields that were called otherwise."""


def _upgrade_0(data: dict[str, Any]) -> dict[str, Any]:
    """Version 0 kept the clock as bare numbers beside the name."""
    clock = {key: data.pop(key) for key in ("fps", "start", "end") if key in data}
    return {**data, "version": 1, **({"clock": clock} if clock else {})}


def _upgrade_1(data: dict[str, Any]) -> dict[str, Any]:
    """In version 1 a spline flow took no notice of its tube's widths."""
    shapes = [s for s in data.get("shapes") or [] if isinstance(s, dict) and isinstance(s.get("params"), dict)]
    tubes = {s.get("id") for s in shapes if s["params"].get("widths")}

    def kept(step: Any) -> Any:
        params = step.get("params") if isinstance(step, dict) and step.get("op") == "spline_flow" else None
        if not isinstance(params, dict) or params.get("curve") not in tubes:
            return step
        return {**step, "params": {"with_tube": False, **params}}

    fields = data.get("fields")
    if not isinstance(fields, list):
        return {**data, "version": 2}
    lanes = [
        {**lane, "steps": [kept(step) for step in lane["steps"]]}
        if isinstance(lane, dict) and isinstance(lane.get("steps"), list)
        else lane
        for lane in fields
    ]
    return {**data, "version": 2, "fields": lanes}


UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {0: _upgrade_0, 1: _upgrade_1}


def upgraded(data: dict[str, Any], version: int) -> dict[str, Any]:
    """The document as of `VERSION`; what it was made of is left as it is."""
    while version < VERSION:
        data = UPGRADES[version](dict(data))
        version = data["version"]
    flows, looks = data.get("flows"), data.get("looks")
    if isinstance(flows, list):  # there was but one kind once, and lanes did not say so
        data = {**data, "flows": [_with_kind(flow) for flow in flows]}
    data = _with_parameters(data)
    if isinstance(looks, dict):
        data = {**data, "looks": {id: _renamed(look) for id, look in looks.items()}}
    return data


def _with_kind(flow: Any) -> Any:
    return {**flow, "kind": "particles"} if isinstance(flow, dict) and "kind" not in flow else flow


def _renamed(look: Any) -> Any:
    return {LOOKS.get(k, k): v for k, v in look.items()} if isinstance(look, dict) else look


def _with_parameters(data: dict[str, Any]) -> dict[str, Any]:
    """Parameters by the names of today, also where links name them."""
    fields = data.get("fields")
    if not isinstance(fields, list):
        return data
    moved: dict[str, str] = {}
    lanes = []
    for lane in fields:
        steps = lane.get("steps") if isinstance(lane, dict) else None
        if not isinstance(steps, list):
            lanes.append(lane)
            continue
        made = []
        for step in steps:
            names = PARAMETERS.get(str(step.get("op"))) if isinstance(step, dict) else None
            params = step.get("params") if names else None
            if not names or not isinstance(params, dict):
                made.append(step)
                continue
            where = f"fields.{lane.get('id')}.{step.get('id')}"
            moved |= {f"{where}.{old}": f"{where}.{new}" for old, new in names.items()}
            made.append({**step, "params": {names.get(k, k): v for k, v in params.items()}})
        lanes.append({**lane, "steps": made})
    data = {**data, "fields": lanes}
    return _relinked(data, moved) if moved else data


def _relinked(value: Any, moved: dict[str, str]) -> Any:
    if isinstance(value, dict):
        return {
            k: moved.get(v, v) if k == "link" and isinstance(v, str) else _relinked(v, moved) for k, v in value.items()
        }
    return [_relinked(v, moved) for v in value] if isinstance(value, list) else value
