"""Commands that draw without a screen: `gust picture` and `gust flipbook`."""

import math
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from errant_gust.cli.app import app, bar, err, open_study, shares, some_frames, stopping
from errant_gust.core.errors import Cancelled, GustError

if TYPE_CHECKING:
    from errant_gust.core.pictures.stage import Stage

WHAT = "Folder of a run; or a study, by file or name: all its runs that are in the home"
CAMERA = "AZIMUTH,HEIGHT in degrees (0 from +x, -90 from the front), or the name of a viewpoint of its study"
FILES = "Folder of files that its study names; where they were when it ran, if left out"
BESIDE = "Folder of another flow's run that is in the picture too"
RESULT = "What is drawn of the first run; what the view shows if left out"
QUALITY = "draft, good or still"


@app.command()
def picture(
    run: Annotated[str, typer.Argument(metavar="RUN_DIR|STUDY", help=WHAT)],
    out: Annotated[Path, typer.Option(help="A new .png file")],
    beside: Annotated[list[Path] | None, typer.Option(help=BESIDE)] = None,
    frame: Annotated[int | None, typer.Option(help="The last if left out")] = None,
    camera: Annotated[str, typer.Option(help=CAMERA)] = "-60,13",
    size: Annotated[str, typer.Option(help="WIDTHxHEIGHT in pixels")] = "960x600",
    quality: Annotated[str, typer.Option(help=QUALITY)] = "good",
    result: Annotated[str, typer.Option(help=RESULT)] = "",
    files: Annotated[Path | None, typer.Option(help=FILES)] = None,
) -> None:  # fmt: skip
    """A picture of a frame without a screen: with perspective, light, shadows, and the shapes of its study."""
    from errant_gust.core.files.writing import check_new
    from errant_gust.core.pictures.taking import take

    if out.suffix.lower() != ".png":
        raise GustError(f"'{out.name}' is no .png file", where="--out", fix="name it picture.png")
    check_new(out)
    stages = _stages(run, beside or [], files)
    began = time.perf_counter()
    with stopping() as stopped, shares("drawing") as report:
        try:
            taken = take(stages, frame, out, _pixels(size), camera, result, quality, report, stopped)
        except Cancelled:
            err.print("stopped; nothing is kept of it")
            raise typer.Exit(130) from None
    _tell(stages)
    print(f"{out}: frame {taken}, {time.perf_counter() - began:.1f} s")


@app.command()
def flipbook(
    run: Annotated[str, typer.Argument(metavar="RUN_DIR|STUDY", help=WHAT)],
    to: Annotated[Path, typer.Option(help="New folder: a PNG a frame, and flipbook.mp4")],
    beside: Annotated[list[Path] | None, typer.Option(help=BESIDE)] = None,
    result: Annotated[str, typer.Option(help=RESULT)] = "",
    frames: Annotated[str, typer.Option(help="A-B; all if left out")] = "",
    view: Annotated[str, typer.Option(help=CAMERA)] = "-60,13",
    size: Annotated[str, typer.Option(help="WIDTHxHEIGHT in pixels")] = "960x600",
    quality: Annotated[str, typer.Option(help=QUALITY)] = "good",
    files: Annotated[Path | None, typer.Option(help=FILES)] = None,
) -> None:  # fmt: skip
    """A film of frames (H.264), drawn without a screen; the Desk makes one of what it shows."""
    from errant_gust.core.looking.filming import Shot, flip
    from errant_gust.core.looking.flipbook import Film
    from errant_gust.core.pictures.camera import View
    from errant_gust.core.pictures.quality import quality_of
    from errant_gust.core.pictures.taking import frames_of, seen_from

    stages = _stages(run, beside or [], files)
    first, last = some_frames(frames)
    ready = frames_of(stages)
    first, last = (ready[0] if first is None else first), (ready[-1] if last is None else last)
    missing = next((f for f in range(first, last + 1) if f not in set(ready)), None)
    if missing is not None:
        raise GustError(f"frame {missing} is not there", where="--frames", fix=f"it has {ready[0]} to {ready[-1]}")
    width, height = _pixels(size)
    stage = stages[0]
    fps = stage.said["clock"]["fps"]
    film = Film(stage.flow, first, last, width, height, fps, f"seen from {view}")
    seen = seen_from(stage, view, (width, height), "--view")
    named = stage.kind.result(result) if result else None
    cameras = seen if isinstance(seen, View) else [seen] * (last - first + 1)
    shot = Shot(stages, cameras, named, quality_of(quality, "--quality"))
    with stopping() as stopped, bar() as shown:
        drawn, filmed = (shown.add_task(what, total=last - first + 1) for what in ("drawing", "making the film"))
        try:
            flip(
                shot, film, to, cancel=stopped, report=lambda done, total: shown.update(drawn, completed=done),
                encoded=lambda done, total: shown.update(filmed, completed=done),
            )  # fmt: skip
        except Cancelled:
            shown.stop()
            err.print("stopped; the same command goes on with what was drawn")
            raise typer.Exit(130) from None
    _tell(stages)
    print(f"{to}: {last - first + 1} pictures of {film.width} × {film.height} pixels and flipbook.mp4")


def _stages(run: str, beside: list[Path], files: Path | None) -> "list[Stage]":
    """A run and those beside it, or all flows of a study that have run."""
    from errant_gust.core.geometry.shapes import Assets
    from errant_gust.core.pictures.stage import Stage
    from errant_gust.core.pictures.taking import stages_of
    from errant_gust.core.runs.frame_store import RunStore

    assets = Assets(files) if files is not None else None
    others = [Stage(RunStore(folder), assets) for folder in beside]
    if Path(run).is_dir():
        return [Stage(RunStore(Path(run)), assets), *others]
    found, without = stages_of(open_study(run))
    for flow in without:
        err.print(f"without {flow}, which has not run")
    return [*found, *others]


def _tell(stages: "list[Stage]") -> None:
    for note in dict.fromkeys(note for stage in stages for note in stage.notes):
        err.print(note)


def _pixels(text: str) -> tuple[int, int]:
    try:
        width, height = (float(part) for part in text.lower().replace("x", ",").split(","))
    except ValueError:
        width = height = math.nan
    if not (math.isfinite(width) and math.isfinite(height)):
        raise GustError(f"'{text}' are no two numbers", where="--size", fix="right would be 960x600")
    return int(width), int(height)
