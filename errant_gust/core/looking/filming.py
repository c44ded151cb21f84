"""Flipbooks that are drawn from runs, without a screen: stopped, they keep what they have, and go on."""

import json
import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import Cancelled, FileError, GustError
from errant_gust.core.files.writing import written_whole
from errant_gust.core.flows.results import Result
from errant_gust.core.looking.flipbook import MANIFEST, ORDER, Film, Flipbook
from errant_gust.core.pictures.camera import Camera, View
from errant_gust.core.pictures.quality import GOOD, Quality, quality_of
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.pictures.taking import as_png, boxes_of, picture
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.lease import leased

Report = Callable[[int, int], None]


@dataclass(frozen=True)
class Shot:
    """What a film is drawn from: flows of one study, the first of which `result` is of (what the view shows, if it is
    none); and a side, or a camera for each of its frames."""

    stages: Sequence[Stage]
    seen: View | Sequence[Camera]
    result: Result | None = None
    quality: Quality = GOOD

    def facts(self) -> dict[str, Any]:
        """As it is kept beside the pictures: whoever goes on draws the same."""
        seen = self.seen
        cameras = [seen.azimuth, seen.height] if isinstance(seen, View) else [[c.eye, c.target, c.lens] for c in seen]
        return {
            "runs": [s.said["identity"] for s in self.stages], "seen": cameras,
            "result": self.result.name if self.result else "", "quality": self.quality.name,
        }  # fmt: skip

    @classmethod
    def of(cls, facts: dict[str, Any], folders: Sequence[Path]) -> "Shot":
        """From what is kept, and where its runs are. Raises GustError."""
        stages = [Stage(RunStore(folder)) for folder in folders]
        seen = facts["seen"]
        from_a_side = not isinstance(seen[0], list)
        cameras = View(*seen) if from_a_side else [Camera(tuple(e), tuple(t), lens) for e, t, lens in seen]
        result = stages[0].kind.result(facts["result"]) if facts["result"] else None
        return cls(stages, cameras, result, quality_of(facts["quality"]))


def flip(
    shot: Shot, film: Film, folder: Path, *, report: Report | None = None, encoded: Report | None = None,
    cancel: Cancel | None = None,
) -> Flipbook:  # fmt: skip
    """A flipbook without a screen, with one box around all and one mapping for all frames. `report` is told what is
    drawn, `encoded` what the film has. What was drawn of the same film stays when it is stopped, and is not drawn again
    when it goes on. Raises Cancelled; GustError, also where the folder holds something else."""
    aside = folder.with_name(f".{folder.name}.drawing")
    with leased(aside, "is being drawn by"):
        try:
            made = begun(shot, film, folder)
            try:
                _draw(made, shot, film, report, cancel)
            finally:
                if not made.frames:  # nothing is worth keeping
                    shutil.rmtree(folder)
            made.finish(encoded, cancel)
        finally:
            shutil.rmtree(aside, ignore_errors=True)
    return made


def begun(shot: Shot, film: Film, folder: Path) -> Flipbook:
    """The flipbook in a folder: new, or the same one that was not finished. Raises FileError."""
    made = Flipbook(folder)
    order = json.loads(json.dumps(shot.facts()))
    _clear(made)
    if folder.exists():
        if made.done or order_of(made) is None:
            raise FileError("is there already", where=str(folder), fix="name a new folder")
        if made.film != film or order_of(made) != order:
            raise FileError("holds another film, which is not finished", where=str(folder), fix="name a new folder")
        return made
    if isinstance(shot.seen, Sequence) and len(shot.seen) != film.last - film.first + 1:
        raise GustError(f"{len(shot.seen)} cameras", where="cameras", fix="right would be one a frame")
    made.begin(film)
    with written_whole(folder / ORDER) as file:
        file.write(json.dumps(order).encode())
    return made


def _clear(made: Flipbook) -> None:
    """What a kill left half-written; all, where nothing was drawn yet."""
    if made.done or not made.folder.is_dir():
        return
    names = {p.name for p in made.folder.iterdir()}
    hidden = {name for name in names if name.startswith(".flipbook.")}
    whole = f".{MANIFEST}" in names and order_of(made) is not None
    if whole:
        hidden -= {f".{MANIFEST}", ORDER}
    elif names != hidden:  # somebody else's
        return
    for name in hidden:
        (made.folder / name).unlink()
    if not whole:
        made.folder.rmdir()


def order_of(made: Flipbook) -> dict[str, Any] | None:
    """What a flipbook is drawn from, that is not done (see `Shot.facts`); None where a page sends its pictures."""
    try:
        said = json.loads((made.folder / ORDER).read_text())
    except (OSError, ValueError):
        return None
    return said if isinstance(said, dict) else None


def _draw(made: Flipbook, shot: Shot, film: Film, report: Report | None, cancel: Cancel | None) -> None:
    """The pictures that are not there."""
    frames = range(film.first, film.last + 1)
    stage, *beside = shot.stages
    there = set(made.frames)
    if len(there) == len(frames):
        return
    some = frames[:: max(1, len(frames) // 8)]
    boxes = [(stage, shot.result), *((s, None) for s in beside)]
    around, ends = boxes_of(boxes, sorted({*some, film.last}))
    for n, frame in enumerate(frames):
        if cancel is not None and cancel():
            raise Cancelled
        if frame not in there:
            seen = shot.seen if isinstance(shot.seen, View) else shot.seen[n]
            pixels = picture(
                stage, frame, (film.width, film.height), seen, result=shot.result, box=around, ends=ends,
                cancel=cancel, quality=shot.quality, beside=beside,
            )  # fmt: skip
            made.put(frame, as_png(pixels))
        if report is not None:
            report(n + 1, len(frames))
