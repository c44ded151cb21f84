"""Small studies built in code: for examples, for warming up, for the benchmark and for tests."""

from typing import Any

from errant_gust.core.study.document import FORMAT, VERSION


def lane(id: str, *steps: Any) -> dict[str, Any]:
    """A lane from (op, params) pairs or (op,); step ids are s0, s1, …"""
    made = [{"id": f"s{i}", "op": step[0], "params": step[1] if len(step) > 1 else {}} for i, step in enumerate(steps)]
    return {"id": id, "name": id, "steps": made}


def study(name: str, *fields: dict[str, Any], **more: Any) -> dict[str, Any]:
    """A study document with these field lanes, and whatever else is named (shapes, regions, flows, clock)."""
    return {"format": FORMAT, "version": VERSION, "name": name, "fields": list(fields), **more}
