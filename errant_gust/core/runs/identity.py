"""Which parts of a study a flow depends on, and the hash that names its run.

Looks, names and lanes that the flow does not use are not part of it: editing them keeps the run.
"""

import functools
import hashlib
from pathlib import Path
from typing import Any

from errant_gust.core.fields import catalogue
from errant_gust.core.fields.scene import describe_cached
from errant_gust.core.geometry.shapes import SHAPES, Assets, file_of_frame
from errant_gust.core.study import document

ENGINE = "5"  # raised when the same study would give other frames than before


@functools.lru_cache(maxsize=256)
def _file_hash(path: Path, size: int, changed: int) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()[:24]


def file_hash(path: Path) -> str:
    stat = path.stat()
    return _file_hash(path, stat.st_size, stat.st_mtime_ns)


class _Walk:
    def __init__(self, study: document.Study, assets: Assets) -> None:
        self.study, self.assets = study, assets
        self.parts: dict[str, Any] = {}

    def _value(self, raw: Any) -> None:
        if isinstance(raw, dict) and "link" in raw:
            key = f"link:{raw['link']}"
            if key not in self.parts:
                self.parts[key] = target = self.study.raw(raw["link"], key)
                self._value(target)
                if raw["link"].startswith("shapes.") or raw["link"].startswith("regions."):
                    return
        elif isinstance(raw, dict) and "field" in raw:
            self.lane(raw["field"])

    def steps(self, lane: Any, kind: str, where: str) -> list[Any]:
        described: list[Any] = []
        for step in lane.steps:
            if not step.on:
                continue
            cls = catalogue.step_class(step.op, kind, f"{where}.{step.id}")
            if cls.family == "drawn":  # worked out from the frames whenever it is looked at
                continue
            described.append([step.op, step.params])
            for entry in describe_cached(cls):
                raw = step.params.get(entry["name"])
                self._value(raw)
                if entry["files"] and raw:
                    described.append(file_hash(self.assets.path(raw, f"{where}.{step.id}.{entry['name']}")))
                if isinstance(raw, str) and raw:
                    if entry["type"] == "field":
                        self.lane(raw)
                    elif entry["type"] == "shape":
                        self.shape(raw)
                    elif entry["type"] == "region":
                        self.region(raw)
                    elif entry["type"] == "flow":
                        self.flow(raw)
                elif entry["type"] == "shapes" and isinstance(raw, list):
                    for id in raw:
                        self.shape(id)
        return described

    def lane(self, id: str) -> None:
        key = f"field:{id}"
        if key not in self.parts:
            self.parts[key] = None  # a circle ends here
            where = f"fields.{id}"
            self.parts[key] = self.steps(self.study.find("fields", id, where), "field", where)

    def flow(self, id: str) -> None:
        key = f"flow:{id}"
        if key not in self.parts:
            self.parts[key] = None
            lane = self.study.find("flows", id, f"flows.{id}")
            self.parts[key] = self.steps(lane, lane.kind, f"flows.{id}")

    def shape(self, id: str) -> None:
        key = f"shape:{id}"
        if key in self.parts:
            return
        part = self.study.find("shapes", id, f"shapes.{id}")
        file = part.params.get("file")
        content: Any = file_hash(self.assets.path(file, f"shapes.{id}")) if file else None
        if file and part.params.get("sequence"):
            clock, where = self.study.clock, f"shapes.{id}"
            names = {file_of_frame(file, n, self.assets, where) for n in range(clock.start, clock.end + 1)}
            content = [file_hash(self.assets.path(name, where)) for name in sorted(names)]
        self.parts[key] = [part.kind if part.kind in SHAPES else None, part.params, content]
        for raw in part.params.values():
            self._value(raw)

    def region(self, id: str) -> None:
        key = f"region:{id}"
        if key in self.parts:
            return
        part = self.study.find("regions", id, f"regions.{id}")
        self.parts[key] = [part.bounds.model_dump(mode="json"), part.voxel_size, part.turn, part.follow, part.over]
        self._value(part.voxel_size)
        self._value(part.turn)
        self._value(part.bounds.padding)
        for shape in part.bounds.fit:
            self.shape(shape)


def run_identity(study: document.Study, flow: str, quality: str, assets: Assets) -> str:
    """Hash that names the run of a flow. The last frame is not part of it, so a longer clock continues a run."""
    walk = _Walk(study, assets)
    lane = study.find("flows", flow, f"flows.{flow}")
    steps = walk.steps(lane, lane.kind, f"flows.{flow}")
    clock = study.clock
    return document.content_hash(
        ENGINE, flow, lane.kind, quality, steps, walk.parts, [clock.fps, clock.start, clock.slow_motion]
    )
