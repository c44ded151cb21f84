"""Commands that hand over: `gust deliver` and `gust verify`."""

import shlex
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from errant_gust.cli.app import app, bar, err, open_study, some_frames, stopping
from errant_gust.core.errors import Cancelled

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

    first, last = some_frames(frames)
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
