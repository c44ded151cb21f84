"""Commands that hand over: `gust deliver` and `gust verify`."""

import math
import shlex
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from errant_gust.cli.app import app, bar, err, open_study, stopping
from errant_gust.core.errors import Cancelled, GustError

if TYPE_CHECKING:
    from errant_gust.core.fields.plan import Plan


@app.command()
def deliver(
    runs: Annotated[list[Path], typer.Argument(metavar="RUN_DIR…", help="Folders of runs; studies, by file or name")],
    to: Annotated[Path, typer.Option(help="New folder; an order that was cut off goes on")],
    result: Annotated[
        list[str] | None,
        typer.Option(
            help="NAME or NAME:FORMAT, of each run that offers it, its first if left out; of a study FIELD@REGION or "
            "SHAPE"
        ),
    ] = None,
    channels: Annotated[str, typer.Option(help="Comma-separated; all if left out")] = "",
    frames: Annotated[str, typer.Option(help="A-B; all if left out")] = "",
    step: Annotated[int, typer.Option(help="Every so manieth frame")] = 1,
    number: Annotated[int | None, typer.Option(help="What the first frame is called; itself if left out")] = None,
    pattern: Annotated[str, typer.Option(help="Of names, from {flow}, {result}, {quality}, {frame}")] = "",
    padding: Annotated[int, typer.Option(help="Digits of frame numbers")] = 4,
    up: Annotated[str, typer.Option(help="Z or Y")] = "Z",
    unit: Annotated[str, typer.Option(help="Of lengths: m, dm, cm, mm")] = "m",
    per: Annotated[str, typer.Option(help="Velocities a second, or a frame")] = "second",
    velocity: Annotated[str, typer.Option(help="motion, or positions: from one frame to the next")] = "motion",
    half: Annotated[bool, typer.Option("--half", help="Half floats in OpenVDB")] = False,
    compression: Annotated[str, typer.Option(help="Of OpenVDB: blosc, zip or none")] = "blosc",
    stage: Annotated[bool, typer.Option(help="One USD stage of what is written as USD and OpenVDB")] = True,
    cameras: Annotated[
        str, typer.Option(metavar="STUDY", help="Whose saved viewpoints are cameras in it; the first run's if left out")
    ] = "",
    flipbook: Annotated[list[Path] | None, typer.Option(help="Folder of a flipbook that goes along")] = None,
    same_as: Annotated[
        Path | None,
        typer.Option("--again", metavar="DELIVERY", help="As that delivery was; what else is said counts not"),
    ] = None,
    here: Annotated[
        bool, typer.Option("--here", help="Write in this process, though ERRANT_GUST_SCHEDULER is set")
    ] = False,
    dry: Annotated[bool, typer.Option("--dry", help="Only say what would be written")] = False,
) -> None:
    """Write results of runs, and fields and shapes of studies, for others, with checksums and a manifest; `gust verify`
    proves it later."""
    from errant_gust.core.runs import engine
    from errant_gust.core.runs.delivery.deliver import check_target
    from errant_gust.core.runs.delivery.deliver import deliver as write
    from errant_gust.core.runs.delivery.order import PATTERN, Options, again, ordered
    from errant_gust.core.runs.delivery.sources import items_of
    from errant_gust.core.runs.delivery.stages import names_of_stages
    from errant_gust.core.runs.delivery.verify import manifest_of

    first, last = _frames(frames)
    sources = _sources(runs) if same_as is None else []
    options = Options(
        first, last, step, number, pattern or PATTERN, padding, up, unit, per, velocity, half, compression, stage,  # type: ignore[arg-type]
        _cameras(cameras, sources) if stage and same_as is None else (),
    )  # fmt: skip
    kept = tuple(c.strip() for c in channels.split(",") if c.strip())
    items = items_of(sources, _results(result or []), kept) if same_as is None else []
    if same_as is not None:
        items, options = again(manifest_of(same_as), runs)
    order = ordered(items, options, _flipbooks(flipbook or []))
    check_target(order, to)
    names = [f.name for f in order.files]
    print(f"{len(names)} files, about {order.bytes / 1e6:,.1f} MB before compression: {names[0]} … {names[-1]}")
    if stages := names_of_stages(order):
        print(f"and the stages {', '.join(stages)}")
    if dry:
        return
    with stopping() as stopped, bar() as shown:
        task = shown.add_task("delivering", total=len(names))
        try:
            said = write(
                order, to, command=shlex.join(["gust", *sys.argv[1:]]), cancel=stopped,
                report=lambda done, total, name: shown.update(task, completed=done, total=total),
                cluster="" if here else engine.scheduler(),
                waits=lambda why: shown.update(task, description=f"waits: {why}" if why else "delivering"),
            )  # fmt: skip
        except Cancelled:
            shown.stop()
            err.print("stopped; the same command goes on with what was written")
            raise typer.Exit(130) from None
    print(f"{to}: {len(said['files'])} files, {said['bytes'] / 1e6:,.1f} MB, checksums in SHA256SUMS")
    print(f"sum of all: {said['seal']}")


CAMERA = "AZIMUTH,HEIGHT in degrees (0 from +x, -90 from the front), or the name of a viewpoint of its study"
FILES = "Folder of files that its study names"


@app.command()
def picture(
    run: Annotated[Path, typer.Argument(metavar="RUN_DIR", help="Folder of a run")],
    out: Annotated[Path, typer.Option(help="A new .png file")],
    frame: Annotated[int | None, typer.Option(help="The last if left out")] = None,
    camera: Annotated[str, typer.Option(help=CAMERA)] = "-60,13",
    size: Annotated[str, typer.Option(help="WIDTHxHEIGHT in pixels")] = "960x600",
    result: Annotated[str, typer.Option(help="What is drawn; what the view shows if left out")] = "",
    files: Annotated[Path | None, typer.Option(help=FILES)] = None,
) -> None:
    """A picture of a run's frame without a screen: with perspective, light, shadows, and the shapes of its study."""
    from errant_gust.core.files.writing import check_new
    from errant_gust.core.geometry.shapes import Assets
    from errant_gust.core.pictures.taking import take

    if out.suffix.lower() != ".png":
        raise GustError(f"'{out.name}' is no .png file", where="--out", fix="name it picture.png")
    check_new(out)
    began = time.perf_counter()
    taken = take(run, frame, out, _pixels(size), camera, result, Assets(files) if files is not None else None)
    print(f"{out}: frame {taken}, {time.perf_counter() - began:.1f} s")


@app.command()
def flipbook(
    run: Annotated[Path, typer.Argument(metavar="RUN_DIR", help="Folder of a run")],
    to: Annotated[Path, typer.Option(help="New folder: a PNG a frame, and flipbook.mp4")],
    result: Annotated[str, typer.Option(help="What is drawn; what the view shows if left out")] = "",
    frames: Annotated[str, typer.Option(help="A-B; all if left out")] = "",
    view: Annotated[str, typer.Option(help=CAMERA)] = "-60,13",
    size: Annotated[str, typer.Option(help="WIDTHxHEIGHT in pixels")] = "960x600",
    files: Annotated[Path | None, typer.Option(help=FILES)] = None,
) -> None:
    """A film of a run's frames (H.264), drawn without a screen; the Desk makes one of what it shows."""
    from errant_gust.core.geometry.shapes import Assets
    from errant_gust.core.looking.flipbook import Film, flip
    from errant_gust.core.pictures.stage import Stage
    from errant_gust.core.pictures.taking import seen_from
    from errant_gust.core.runs.frame_store import RunStore

    store = RunStore(run)
    manifest, ready = store.manifest(), store.frames()
    if not ready:
        raise GustError("has no frame yet", where=str(run), fix="run it first")
    first, last = _frames(frames)
    first, last = (ready[0] if first is None else first), (ready[-1] if last is None else last)
    missing = next((f for f in range(first, last + 1) if f not in set(ready)), None)
    if missing is not None:
        raise GustError(f"frame {missing} is not there", where="--frames", fix=f"it has {ready[0]} to {ready[-1]}")
    width, height = _pixels(size)
    film = Film(manifest["flow"], first, last, width, height, manifest["clock"]["fps"], f"seen from {view}")
    stage = Stage(store, Assets(files) if files is not None else None)
    seen, named = seen_from(stage, view, (width, height), "--view"), stage.kind.result(result) if result else None
    with stopping() as stopped, bar() as shown:
        drawn, filmed = (shown.add_task(what, total=last - first + 1) for what in ("drawing", "making the film"))
        try:
            flip(
                stage, named, film, to, seen, cancel=stopped,
                report=lambda done, total: shown.update(drawn, completed=done),
                encoded=lambda done, total: shown.update(filmed, completed=done),
            )  # fmt: skip
        except Cancelled:
            shown.stop()
            err.print("stopped; nothing is kept of it")
            raise typer.Exit(130) from None
    print(f"{to}: {last - first + 1} pictures of {film.width} × {film.height} pixels and flipbook.mp4")


def _pixels(text: str) -> tuple[int, int]:
    width, height = _two(text.lower().replace("x", ","), "--size", "960x600")
    return int(width), int(height)


def _two(text: str, where: str, right: str) -> tuple[float, float]:
    try:
        first, second = (float(part) for part in text.split(","))
    except ValueError:
        first = second = math.nan
    if not (math.isfinite(first) and math.isfinite(second)):
        raise GustError(f"'{text}' are no two numbers", where=where, fix=f"right would be {right}")
    return first, second


@app.command()
def verify(folder: Annotated[Path, typer.Argument(metavar="DELIVERY", help="Folder of a delivery")]) -> None:
    """Prove a delivery: every file by its checksum and by reading it back; exit code 1 if one is not as it was."""
    from errant_gust.core.runs.delivery.verify import manifest_of
    from errant_gust.core.runs.delivery.verify import verify as prove

    said = manifest_of(folder)
    with bar() as shown:
        task = shown.add_task("verifying", total=len(said["files"]))
        faults = prove(folder, lambda done, total: shown.update(task, completed=done))
    for fault in faults:
        print(f"{fault.name}: {fault.what}")
    if faults:
        raise typer.Exit(1)
    print(f"{folder}: all {len(said['files'])} files are as they were delivered")
    if "seal" in said:
        print(f"sum of all: {said['seal']}")


def _frames(text: str) -> tuple[int | None, int | None]:
    if not text:
        return None, None
    first, _, last = text.partition("-") if not text.startswith("-") else (text, "", "")
    try:
        return int(first), int(last or first)
    except ValueError:
        raise GustError(f"'{text}' are no frames", where="--frames", fix="right would be 1-48") from None


def _flipbooks(folders: list[Path]) -> list[tuple[str, Path]]:
    from errant_gust.core.looking.flipbook import beside

    return beside([f.resolve() for f in folders])


def _cameras(study: str, sources: "list[Path | Plan]") -> tuple[dict[str, Any], ...]:
    from errant_gust.core.runs.frame_store import RunStore
    from errant_gust.core.study import document
    from errant_gust.core.study.viewpoints import viewpoints_of

    if study:
        return viewpoints_of(open_study(study).study)
    first = sources[0]
    if isinstance(first, Path):
        return viewpoints_of(document.parse(RunStore(first).manifest()["study"]))
    return viewpoints_of(first.study)


def _sources(given: list[Path]) -> "list[Path | Plan]":
    """Folders of runs as they are, anything else as a study."""

    return [path if path.is_dir() else open_study(str(path)) for path in given]


def _results(told: list[str]) -> list[tuple[str, str]]:
    parts = (one.partition(":") for one in told)
    return [(name, format) for name, _, format in parts]
