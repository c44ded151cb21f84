"""Pictures of runs: what a frame holds, seen through a camera, in bytes."""

import io
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

import numpy as np
from PIL import Image

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import FileError, GustError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.files.writing import written_whole
from errant_gust.core.flows.results import Result
from errant_gust.core.home import home
from errant_gust.core.pictures.camera import USUAL, Box, Camera, View
from errant_gust.core.pictures.mesh import Mesh
from errant_gust.core.pictures.quality import GOOD, Quality, quality_of
from errant_gust.core.pictures.render import Report, Staged, render
from errant_gust.core.pictures.setting import FIRST, lit_by
from errant_gust.core.pictures.stage import STONE, Ends, Stage
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.study.viewpoints import viewpoints_of

SMALL = 400
"""Pixels of width up to which smoke is drawn by the voxels that it has, or coarser ones."""
LARGE = 1.5
"""Times the size of what is there, from which on a shape is a surrounding that need not be whole in the picture."""
SIDES = (16, 8192)
MOST_PIXELS = 3840 * 2160


def check_size(size: tuple[int, int], where: str = "size") -> None:
    """Raises GustError for a picture that is too small or too large."""
    if not all(SIDES[0] <= n <= SIDES[1] for n in size) or size[0] * size[1] > MOST_PIXELS:
        raise GustError(
            f"{size[0]} × {size[1]} pixels", where=where, fix=f"at least {SIDES[0]} a side, at most 3840 × 2160 in all"
        )


def picture(
    stage: Stage, frame: int, size: tuple[int, int] = (960, 600), seen: Camera | View = USUAL, *,
    result: Result | None = None, box: Box | None = None, ends: Ends | None = None, cancel: Cancel | None = None,
    quality: Quality = GOOD, beside: Sequence[Stage] = (), report: Report | None = None,
) -> Array:  # fmt: skip
    """Pixels (height, width, 3) uint8 of a frame; `seen`: a camera that stands somewhere, or a side from which all of
    `box` (corners in m; else what is there) is seen; `ends`: see `Stage.content`; `beside`: other flows of the same
    study, as they are looked at; `report` is told the share that is done. Raises GustError for a size or a frame that
    cannot be, Cancelled."""
    check_size(size)
    fine = quality.fine and size[0] > SMALL
    found = [stage.content(frame, result, fine=fine, ends=ends), *(s.content(frame, fine=fine) for s in beside)]
    staged = found[0].staged
    for other in found[1:]:
        staged.add(other.staged)
    around = box or staged.box
    _furnish([stage, *beside], frame, staged, around, grows=box is None)
    camera = seen if isinstance(seen, Camera) else Camera.around(staged.box, seen, size)
    way = np.subtract(camera.eye, camera.target)
    azimuth = seen.azimuth if isinstance(seen, View) else float(np.degrees(np.arctan2(way[1], way[0])))
    usual = min((f.usual for f in found), key=FIRST.index)
    return render(staged, camera, lit_by(stage.plan.study, usual, azimuth), size, cancel, quality, report)


def _furnish(stages: Sequence[Stage], frame: int, staged: Staged, around: Box, *, grows: bool) -> None:
    """Shapes that stand in the way, and the ground under all."""
    diagonal, lowest = float(np.linalg.norm(np.subtract(*around))), float(around[0][2])
    for shape in {solid.id: solid for stage in stages for solid in stage.solids(frame)}.values():
        staged.meshes.append(Mesh(shape.vertices, shape.faces, np.broadcast_to(STONE, (len(shape.vertices), 3))))
        low, high = shape.vertices.min(axis=0), shape.vertices.max(axis=0)
        if np.linalg.norm(high - low) < LARGE * diagonal:
            lowest = min(lowest, float(low[2]))
            if grows:
                around = (np.minimum(around[0], low), np.maximum(around[1], high))
    staged.box, staged.floor = around, lowest


def box_of(stage: Stage, frame: int, result: Result | None = None) -> Box | None:
    """What a result takes up on a frame, with shapes that stand by it; None if there is nothing."""
    staged = stage.content(frame, result, fine=False).staged
    parts = [*staged.meshes, staged.water, staged.balls, *staged.streaks]
    full = any(c.extinct.any() or c.kelvin is not None for c in staged.clouds)
    if not full and not any(p is not None and p.count for p in parts):
        return None
    _furnish([stage], frame, staged, staged.box, grows=True)
    return staged.box


def boxes_of(stages: list[tuple[Stage, Result | None]], frames: list[int]) -> tuple[Box | None, Ends | None]:
    """One box around what several runs hold on frames, and the ends of all numbers that colour; frames that are not
    there are left out."""
    boxes: list[Box] = []
    ends: list[Ends] = []
    for stage, result in stages:
        there = set(stage.store.frames())
        for frame in frames:
            if frame not in there:
                continue
            with suppress(FileError):  # one that cannot be read is told where it is drawn
                if (box := box_of(stage, frame, result)) is not None:
                    boxes.append(box)
                if (some := stage.ends(frame)) is not None:
                    ends.append(some)
    around = (np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)) if boxes else None
    return around, (min(e[0] for e in ends), max(e[1] for e in ends)) if ends else None


def seen_from(stage: Stage, told: str, size: tuple[int, int], where: str = "camera") -> Camera | View:
    """A camera from words: a saved viewpoint by its name, or degrees round and up as `-60,13`. Raises GustError."""
    for one in viewpoints_of(stage.plan.study):
        if one["name"] == told:
            return Camera.at(one, size)
    parts = told.split(",")
    try:
        azimuth, height = (float(p) for p in parts)
        if not (np.isfinite([azimuth, height]).all() and -90 <= height <= 90):
            raise ValueError
    except ValueError:
        names = ", ".join(v["name"] for v in viewpoints_of(stage.plan.study))
        fix = f"degrees round and up, as -60,13{f'; or one of: {names}' if names else ''}"
        raise GustError(f"'{told[:60]}' is no viewpoint", where=where, fix=fix) from None
    return View(azimuth, height)


def as_png(pixels: Array) -> bytes:
    """Pixels (height, width, 3) uint8 as a file."""
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG")
    return out.getvalue()


def stages_of(plan: Plan) -> tuple[list[Stage], list[str]]:
    """The runs of a study's flows that are in the home, the finer of each; and flows that have not run. Raises
    GustError where none has."""
    found, without = [], []
    for flow in plan.study.flows:
        for quality in ("full", "preview"):
            store = RunStore(home() / "runs" / run_identity(plan.study, flow.id, quality, plan.assets))
            if store.folder.is_dir() and store.frames():
                found.append(Stage(store, plan.assets))
                break
        else:
            without.append(flow.id)
    if not found:
        flows = f"; its flows: {', '.join(without)}" if without else ""
        raise GustError(
            "has not run here", where=plan.study.name, fix=f"run it first, or name the folder of a run{flows}"
        )
    return found, without


def frames_of(stages: Sequence[Stage]) -> list[int]:
    """Frames that all of them have. Raises GustError where there are none."""
    ready = sorted(set.intersection(*(set(s.store.frames()) for s in stages)))
    if not ready:
        several = " on which all of them are" if len(stages) > 1 else " yet"
        raise GustError(f"has no frame{several}", where=str(stages[0].store.folder), fix="run it first")
    return ready


def take(
    stages: Sequence[Stage], frame: int | None, to: Path, size: tuple[int, int], camera: str, result: str = "",
    quality: str = GOOD.name, report: Report | None = None, cancel: Cancel | None = None,
) -> int:  # fmt: skip
    """A PNG of a frame (the last that all have if none is named) of flows of one study, the first of which a result is
    of; which it was. Raises GustError, Cancelled."""
    stage, *beside = stages
    ready = frames_of(stages)
    chosen = ready[-1] if frame is None else frame
    if chosen not in ready:
        raise GustError(f"frame {chosen} is not there", where="--frame", fix=f"it has {ready[0]} to {ready[-1]}")
    check_size(size, "--size")
    named = stage.kind.result(result) if result else None
    pixels = picture(
        stage, chosen, size, seen_from(stage, camera, size, "--camera"), result=named, beside=beside,
        quality=quality_of(quality, "--quality"), report=report, cancel=cancel,
    )  # fmt: skip
    with written_whole(to) as file:
        file.write(as_png(pixels))
    return chosen
