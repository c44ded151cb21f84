"""What one version of a study changed against another, in words and by place."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from errant_gust.core.study.depends import Depends
from errant_gust.core.study.document import Lane, Shape, Step, Study
from errant_gust.core.study.parameters import describe
from errant_gust.core.study.registry import FIELD, shape_class, steps_of


@dataclass(frozen=True)
class Change:
    """One difference: where (`fields.gusts.noise.strength`), whose it is (`Gusts ▸ Curl noise`), and what."""

    where: str
    place: str
    what: str

    @property
    def words(self) -> str:
        """As a line of text."""
        return f"{self.place} ▸ {self.what}" if self.place else self.what


def changes(before: Study, after: Study, flow: str = "") -> list[Change]:
    """Differences between two versions, in the order of the later one; with `flow` only of what it depends on."""
    used = _used(before, flow) | _used(after, flow) if flow else None
    found: list[Change] = []
    for sort, room in (("field", "fields"), ("flow", "flows"), ("shape", "shapes"), ("region", "regions")):
        old, new = ({p.id: p for p in getattr(study, room)} for study in (before, after))
        for id in [*new, *(id for id in old if id not in new)]:
            if used is not None and f"{sort}:{id}" not in used:
                continue
            where = f"{room}.{id}"
            if id not in old or id not in new:
                name = (new if id in new else old)[id].name
                found.append(Change(where, "", f"{sort} {name} {'added' if id in new else 'removed'}"))
            elif sort in ("field", "flow"):
                found += _lane(where, old[id], new[id], after)
            elif sort == "shape":
                found += _shape(where, old[id], new[id], after)
            else:
                found += _parts(where, old[id], new[id], ("voxel_size", "turn", "follow", "over", "bounds"))
    return [*found, *_clock(before, after)]


def _used(study: Study, flow: str) -> set[str]:
    if not any(f.id == flow for f in study.flows):
        return set()
    walk = Depends(study)
    walk.flow(flow)
    walk.drawn(flow)
    links = [key.split(":", 1)[1] for key in walk.parts if key.startswith("link:")]
    rooms = {"fields": "field", "flows": "flow", "shapes": "shape", "regions": "region"}
    return {*walk.parts, *(f"{rooms[link.split('.')[0]]}:{link.split('.')[1]}" for link in links)}


def _lane(where: str, old: Lane, new: Lane, study: Study) -> Iterator[Change]:
    known = steps_of(getattr(new, "kind", FIELD))
    before = {s.id: s for s in old.steps}

    def label(step: Step) -> str:
        cls = known.get(step.op)
        return str(getattr(cls, "label", step.op))

    for step in new.steps:
        place, at = f"{new.name} ▸ {label(step)}", f"{where}.{step.id}"
        was = before.get(step.id)
        if was is None or was.op != step.op:
            yield Change(at, new.name, f"{label(step)} added")
            continue
        if was.on != step.on:
            yield Change(at, place, "on" if step.on else "off")
        yield from _params(at, place, known.get(step.op), was.params, step.params, study)
    for step in old.steps:
        if step.id not in {s.id for s in new.steps}:
            yield Change(f"{where}.{step.id}", new.name, f"{label(step)} removed")
    kept = [s.id for s in old.steps if s.id in {t.id for t in new.steps}]
    if kept != [s.id for s in new.steps if s.id in before]:
        yield Change(where, new.name, "steps in another order")


def _shape(where: str, old: Shape, new: Shape, study: Study) -> Iterator[Change]:
    if old.kind != new.kind:
        yield Change(where, new.name, f"{old.kind} → {new.kind}")
    else:
        yield from _params(where, new.name, shape_class(new.kind), old.params, new.params, study)


def _params(
    where: str, place: str, cls: Any, old: dict[str, Any], new: dict[str, Any], study: Study
) -> Iterator[Change]:  # fmt: skip
    entries = {e["name"]: e for e in describe(cls)} if cls is not None else {}
    for name in dict.fromkeys([*entries, *old, *new]):
        entry = entries.get(name, {})
        a, b = (params.get(name, entry.get("default")) for params in (old, new))
        if _same(a, b):
            continue
        label, unit = entry.get("label", name), entry.get("unit", "")
        yield Change(f"{where}.{name}", place, f"{label} {value(a, unit, study)} → {value(b, unit, study)}")


def _same(a: Any, b: Any) -> bool:
    if isinstance(a, list | tuple) and isinstance(b, list | tuple):
        return len(a) == len(b) and all(_same(x, y) for x, y in zip(a, b, strict=True))
    return bool(a == b)


def _parts(where: str, old: Any, new: Any, names: tuple[str, ...]) -> Iterator[Change]:
    for name in names:
        a, b = (part.model_dump(mode="json").get(name) for part in (old, new))
        if _same(a, b):
            continue
        if isinstance(a, dict) and isinstance(b, dict) and name == "bounds":
            for key in sorted({*a, *b}):
                if not _same(a.get(key), b.get(key)):
                    words = f"{key.replace('_', ' ')} {value(a.get(key), '')} → {value(b.get(key), '')}"
                    yield Change(f"{where}.bounds.{key}", new.name, words)
            continue
        unit = "m" if name == "voxel_size" else ""
        yield Change(f"{where}.{name}", new.name, f"{name.replace('_', ' ')} {value(a, unit)} → {value(b, unit)}")


def _clock(before: Study, after: Study) -> Iterator[Change]:
    for name, a in before.clock.model_dump().items():
        b = getattr(after.clock, name)
        if a != b:
            yield Change(f"clock.{name}", "Clock", f"{name.replace('_', ' ')} {value(a, '')} → {value(b, '')}")


def value(raw: Any, unit: str, study: Study | None = None) -> str:
    """A value in a few words."""
    if raw is None or raw in ("", []):
        return "none"
    if isinstance(raw, bool):
        return "on" if raw else "off"
    if isinstance(raw, int | float):
        return f"{raw:g}{f' {unit}' if unit and unit != 'as the field' else ''}"
    if isinstance(raw, dict):
        if "keys" in raw:
            return f"{len(raw['keys'])} keys"
        if "link" in raw:
            return f"{raw.get('times', 1):g} × {raw['link']}"
        return f"field {raw.get('field', '')}"
    if isinstance(raw, list | tuple):
        if all(isinstance(v, int | float) for v in raw):
            return " ".join(f"{v:g}" for v in raw) + (f" {unit}" if unit else "")
        return ", ".join(str(v) for v in raw) if all(isinstance(v, str) for v in raw) else f"{len(raw)} points"
    text = str(raw)
    parts: list[Any] = [] if study is None else [*study.fields, *study.flows, *study.shapes, *study.regions]
    return next((p.name for p in parts if p.id == text), text[:60])
