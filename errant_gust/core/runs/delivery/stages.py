"""Stages of a delivery: of every item one that plays its frames, and one of it all with cameras."""

from pathlib import Path
from typing import Any

from errant_gust.core.files.usd import Setting, write_stage
from errant_gust.core.files.usd_scene import VolumeFrame, write_scene, write_volumes
from errant_gust.core.runs.delivery.order import Order, Part, Planned
from errant_gust.core.study.viewpoints import camera_path

SCENE = "scene.usda"
STAGED = ("usd", "vdb")
"""Formats that a stage shows."""


def _places(order: Order) -> dict[int, tuple[str, str]]:
    """Of each item that has a stage, by its number: what it is called in the scene, and its path in the delivery."""
    found: dict[int, tuple[str, str]] = {}
    taken: set[str] = set()
    for n, part in enumerate(order.parts):
        if part.format == "usd" or (part.format == "vdb" and order.options.stage):
            name = f"{part.source.name}_{part.source.result}"
            name = name if name not in taken else f"{name}_{n}"  # the same of another run
            taken.add(name)
            folders = {str(Path(f.name).parent) for f in order.files if f.item == n}
            found[n] = name, str(Path(folders.pop() if len(folders) == 1 else ".") / f"{name}.usda")
    return found


def names_of_stages(order: Order) -> list[str]:
    """Stages that are written beside the frames, that of it all at the end."""
    made = [path for _, path in _places(order).values()]
    return [*made, SCENE] if made and order.options.stage else made


def stages_of(order: Order, aside: Path, told: dict[str, dict[str, Any]]) -> list[Path]:
    """Write the stages over files that are there already; the files that they consist of."""
    shown: dict[str, Path] = {}
    made: list[Path] = []
    for n, (name, path) in _places(order).items():
        part, files = order.parts[n], [f for f in order.files if f.item == n]
        shown[name] = stage = aside / path
        if part.format == "usd":
            made += _played(order, part, files, stage, aside)
        else:
            made += _filled(order, part, files, stage, aside, told)
    if order.options.stage and shown:
        made.append(aside / SCENE)
        _fresh(made[-1])
        staged = [f for f in order.files if order.parts[f.item].format in STAGED]
        numbers, shift = [f.number for f in staged], staged[0].number - staged[0].frame
        first = next(p for p in order.parts if p.format in STAGED)
        cameras = [first.convention.camera(v) for v in order.options.cameras]
        keys = camera_path(order.options.cameras, min(numbers) - shift, max(numbers) - shift)
        goes = [(k["frame"] + shift, first.convention.camera({"name": "", **k})) for k in keys]
        write_scene(
            made[-1], shown, cameras, (min(numbers), max(numbers)), _fps(first), _setting(order, first), goes
        )  # fmt: skip
    return made


def _fps(part: Part) -> float:
    return part.source.fps


def _setting(order: Order, part: Part) -> Setting:
    return Setting(order.options.up, part.convention.metres)


def _fresh(stage: Path) -> None:
    for old in stage.parent.glob(f"{stage.stem}.*usda"):  # of a go that was cut off
        old.unlink()


def _played(order: Order, part: Part, files: list[Planned], stage: Path, aside: Path) -> list[Path]:
    _fresh(stage)
    paths = [aside / f.name for f in files]
    return write_stage(stage, part.source.name, [f.number for f in files], paths, _fps(part), _setting(order, part))


def _filled(
    order: Order, part: Part, files: list[Planned], stage: Path, aside: Path, told: dict[str, dict[str, Any]]
) -> list[Path]:
    _fresh(stage)
    frames: list[VolumeFrame] = []
    grids: dict[str, int] = {}
    for file in files:
        said = told[file.name]
        low, high = (tuple(end) for end in said["box"])
        frames.append(VolumeFrame(aside / file.name, file.number, (low, high)))
        grids |= {name: int(held["channels"]) for name, held in said["holds"].items()}
    half = order.options.half
    write_volumes(stage, part.source.name, frames, grids, _fps(part), half, _setting(order, part))
    return [stage]
