"""Entry point: typer commands; bad input is one line on stderr and exit code 2."""

import json
import math
import re
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from errant_gust.cli import (  # noqa: F401  (they register their commands)
    delivering,
    home_commands,
    importing,
    picturing,
    running,
)
from errant_gust.cli.app import JsonFlag, StudyArg, app, frame_range, open_study
from errant_gust.cli.app import bar as progress_bar
from errant_gust.core.errors import FileError, GustError, absent
from errant_gust.core.files.room import FULL

VIEW = r"\s*[-+]?[\d.]+\s*,\s*[-+]?[\d.]+\s*"


@app.command()
def ops(as_json: JsonFlag = False) -> None:
    """The step catalogue: every step with its parameters, units, ranges and defaults."""
    from errant_gust.core.listing import catalogue

    entries = catalogue()
    if as_json:
        print(json.dumps(entries, indent=1))
        return
    for entry in entries["steps"]:
        print(f"{entry['id']:14} {entry['lane']:9} {entry['kind']:7} {entry['label']} — {entry['yields']}")
    for kind in entries["kinds"]:
        results = "; ".join(f"{r['name']}: {', '.join(r['formats'])}" for r in kind["results"])
        print(f"{kind['id']:14} {'kind':9} {'flow':7} {kind['label']} — {kind['yields']}; frames offer {results}")


@app.command()
def sample(
    study: StudyArg,
    field: Annotated[str, typer.Option(help="Id of a field lane")],
    points: Annotated[Path, typer.Option(help="An .npy file with points (n, 3) in metres")],
    out: Annotated[Path, typer.Option(help="Where to write: .npy; with --gradient an archive, best named .npz")],
    time: Annotated[float, typer.Option(help="Seconds after the first frame")] = 0.0,
    gradient: Annotated[
        bool,
        typer.Option(
            "--gradient",
            help="Also first derivatives: an archive with the arrays value and gradient, whatever its ending",
        ),
    ] = False,
) -> None:
    """Sample a field at points."""
    import numpy as np

    from errant_gust.core.fields.sampling import sample as sample_node
    from errant_gust.core.files.writing import written_whole

    endings = (".npz", ".npy") if gradient else (".npy",)
    if out.suffix.lower() not in endings:
        raise FileError(
            f"'{out.suffix or out.name}' is not written by sample", where=str(out),
            fix="right would be .npy, or .npz with --gradient",
        )  # fmt: skip
    node = open_study(study).at(_finite(time, "--time")).lane(field)
    where = _read_points(points)
    value, slope = sample_node(node, where, gradient=gradient)
    if not out.parent.is_dir():
        raise FileError("the folder does not exist", where=str(out.parent), fix="make it first")
    with written_whole(out) as file:
        if gradient:
            np.savez(file, value=value, gradient=slope)  # type: ignore[arg-type]
        else:
            np.save(file, value)


@app.command()
def read(
    study: StudyArg,
    field: Annotated[str, typer.Option(help="Id of a field lane")],
    step: Annotated[str, typer.Option(help="After this step of it; its end if left out")] = "",
    over: Annotated[str, typer.Option(help="box, x=…, y=… or z=… for a plane, or the id of a shape")] = "box",
    time: Annotated[float, typer.Option(help="Seconds after the first frame")] = 0.0,
    as_json: Annotated[bool, typer.Option("--json", help="As JSON")] = False,
) -> None:
    """Numbers of a field over the region, a plane or a shape's surface, and what goes through walls."""
    from errant_gust.cli.reading import read_field

    made = read_field(open_study(study).at(_finite(time, "--time")), field, step, over)
    print(json.dumps(made.as_dict(), indent=1) if as_json else "\n".join(made.lines()))


def _read_points(path: Path) -> Any:
    import numpy as np

    if path.suffix.lower() != ".npy":
        raise FileError(
            f"'{path.suffix or path.name}' holds no points that are read here", where=str(path),
            fix="right would be an .npy file with numbers of shape (n, 3): numpy.save('points.npy', points)",
        )  # fmt: skip
    try:
        points = np.load(path, allow_pickle=False)
    except (OSError, ValueError) as error:
        raise FileError(f"cannot be read ({error})", where=str(path), fix="right would be a .npy file") from None
    if not isinstance(points, np.ndarray) or points.ndim != 2 or points.shape[1] != 3 or points.dtype.kind not in "fiu":
        raise FileError("does not hold points", where=str(path), fix="right would be numbers of shape (n, 3)")
    if not np.isfinite(points).all():
        raise FileError("holds points that are not numbers", where=str(path), fix="every coordinate must be finite")
    return points.astype(np.float32)


def _finite(value: float, where: str) -> float:
    if not math.isfinite(value):
        raise GustError(f"{value} is not a time", where=where, fix="right would be seconds, for example 1.5")
    return value


@app.command()
def bake(
    study: StudyArg,
    field: Annotated[str, typer.Option(help="Id of a field lane")],
    region: Annotated[str, typer.Option(help="Id of a region")],
    out: Annotated[
        Path,
        typer.Option(
            help="File ending in .vdb, .npz or .vti; .obj, .ply or .stl give the surface where a distance is zero"
        ),
    ],
    time: Annotated[float, typer.Option(help="Seconds after the first frame")] = 0.0,
) -> None:
    """Bake a field on a region into a file."""
    from errant_gust.core.fields.look import unit_of
    from errant_gust.core.files.volume_files import writer_for
    from errant_gust.core.grids.grid import Grid
    from errant_gust.core.runs.baking import bake_field

    write = writer_for(out)
    plan = open_study(study)
    scene = plan.at(_finite(time, "--time"))
    node, box = scene.lane(field), scene.region(region)
    with progress_bar() as bar:
        task = bar.add_task(f"baking {field} on {box.voxels:,} voxels", total=1.0)
        values = bake_field(plan, field, region, time, progress=lambda share: bar.update(task, completed=share))
    write(out, {field: Grid(box, values, unit=unit_of(node))})
    size = " × ".join(str(n) for n in box.shape)
    print(f"{out}: {field}, {size} voxels of {box.voxel_size:g} m, {out.stat().st_size / 1e6:.1f} MB")


@app.command()
def halves(
    run_dir: Annotated[Path, typer.Argument(metavar="RUN_DIR", help="Folder of a run")],
    frame: Annotated[int, typer.Option(help="From this frame to the next")],
) -> None:
    """What half steps would change: the error of the substeps, and what more of them gain."""
    from errant_gust.core.runs.frame_store import RunStore
    from errant_gust.core.runs.halving import halved_run

    made = halved_run(RunStore(run_dir), frame)
    for one in made:
        print(one.line())
    if not made:
        print("nothing to be told: nothing is there from this frame to the next, or it is carried by another run")


@app.command()
def export(
    run_dir: Annotated[Path, typer.Argument(metavar="RUN_DIR", help="Folder of a run")],
    to: Annotated[Path, typer.Option(help="Folder to write into")],
    format: Annotated[
        str,
        typer.Option(
            help="Points: ply, npz, csv, usd; lines: usd, npz, csv; volumes: vdb, vti, npz, zarr; "
            "meshes: obj, ply, stl, npz"
        ),
    ] = "",
    frames: Annotated[str, typer.Option(help="A-B")] = "",
    channels: Annotated[str, typer.Option(help="Comma-separated; position is always kept")] = "",
    what: Annotated[
        str, typer.Option(help="A result of the flow by name, the main one if not said; gust ops lists them")
    ] = "",
    velocity: Annotated[str, typer.Option(help="motion, or positions: from one frame to the next")] = "motion",
) -> None:
    """Write open formats, one file a frame."""
    if velocity not in ("motion", "positions"):
        raise FileError(f"'{velocity}' is not known", where="--velocity", fix="one of: motion, positions")
    from errant_gust.core.runs.export import export_run
    from errant_gust.core.runs.frame_store import RunStore

    store = RunStore(run_dir)
    clock = store.manifest()["clock"]
    span = frame_range(frames, clock["start"], clock["end"]) if frames else None
    wanted = tuple(c.strip() for c in channels.split(",") if c.strip()) or None
    with progress_bar() as bar:
        task = bar.add_task("exporting", total=None)
        made = export_run(
            store, to, format=format, frames=span, channels=wanted, what=what,
            velocity=velocity,  # type: ignore[arg-type]
            report=lambda done, total: bar.update(task, completed=done, total=total),
        )  # fmt: skip
    for path, digest in made:
        print(f"{digest}  {path.name}")


@app.command()
def shape(
    study: StudyArg,
    shape: Annotated[str, typer.Option(help="Id of a shape: also one that lanes make")],
    to: Annotated[Path, typer.Option(help="Folder to write into")],
    format: Annotated[str, typer.Option(help="obj, ply, stl, usd, npz: triangles; vdb: a level set")] = "obj",
    frames: Annotated[str, typer.Option(help="A-B; the clock's if not said")] = "",
    voxel: Annotated[float, typer.Option(help="Metres, of a level set; 0 takes 96 along the longest side")] = 0.0,
) -> None:
    """Write a shape, one file a frame."""
    from errant_gust.core.runs.shape_files import export_shape

    plan = open_study(study)
    span = frame_range(frames, plan.study.clock.start, plan.study.clock.end)
    if not math.isfinite(voxel) or voxel < 0:
        raise GustError(f"{voxel} is no voxel size", where="--voxel", fix="right would be a length in metres, or 0")
    with progress_bar() as bar:
        task = bar.add_task(f"{shape}, frames {span[0]} to {span[1]}", total=span[1] - span[0] + 1)
        made = export_shape(
            plan, shape, to, format=format, frames=span, voxel=voxel,
            report=lambda done, total: bar.update(task, completed=done, total=total),
        )  # fmt: skip
    for path, digest in made:
        print(f"{digest}  {path.name}")


@app.command()
def estimate(
    study: StudyArg,
    flow: Annotated[str, typer.Option(help="Id of a flow")],
    quality: Annotated[str, typer.Option(help="preview or full: the run that is estimated")] = "full",
    run: Annotated[Path | None, typer.Option(help="Folder of a run of the flow to go by, of any quality")] = None,
    frames: Annotated[int, typer.Option(min=2, help="Without --run: preview frames to measure")] = 12,
    as_json: JsonFlag = False,
) -> None:
    """What a run will cost: time, memory and disk, from measured frames."""
    from tempfile import TemporaryDirectory

    from errant_gust.core.runs.compute import compute
    from errant_gust.core.runs.cost import cost_of
    from errant_gust.core.runs.frame_store import RunStore

    plan = open_study(study)
    if quality not in ("preview", "full"):
        raise GustError(f"'{quality}' is not a quality", where="--quality", fix="right would be preview or full")
    with TemporaryDirectory() as name:
        store = RunStore(run) if run else RunStore(Path(name) / "run")
        if run is None:
            last = min(plan.study.clock.end, plan.study.clock.start + frames)
            compute(plan.study, flow, store.folder, quality="preview", assets=plan.assets, last=last)
        store.manifest()
        found = cost_of(plan, flow, quality, [store])
    if as_json:
        print(json.dumps(found.as_dict(), indent=1))
        return
    print(
        f"{found.frames} frames to compute, up to {found.count:,} {found.unit}, {found.memory / 1e6:,.0f} MB of memory"
    )
    if found.seconds is not None and found.disk is not None:
        print(
            f"about {found.seconds:,.0f} s and {found.disk / 1e6:,.0f} MB on disk, "
            f"by {found.measured} frames of {found.basis}"
        )


@app.command()
def compare(
    a: Annotated[Path, typer.Argument(metavar="RUN_A", help="Folder of a run")],
    b: Annotated[Path, typer.Argument(metavar="RUN_B", help="Folder of another run, or of the same")],
    channel: Annotated[str, typer.Option(help="Of RUN_A, the first if not said; vel compares speeds")] = "",
    to: Annotated[str, typer.Option(help="Of RUN_B, if it is another channel")] = "",
    frames: Annotated[str, typer.Option(help="A-B; all that both have, if not said")] = "",
    as_json: JsonFlag = False,
) -> None:
    """RUN_B against RUN_A, frame by frame: channels of volumes on one grid, points by their numbers."""
    from dataclasses import asdict

    from errant_gust.core.runs.compare import channel_of, compared_by, difference, numbers_of, points_apart
    from errant_gust.core.runs.frame_store import RunStore

    one, two = RunStore(a), RunStore(b)
    both = sorted({*one.frames()} & {*two.frames()})
    if not both:
        raise FileError("the two runs have no frame in common", where=str(b))
    form = compared_by(one, two, both[0], channel)
    first, last = frame_range(frames, both[0], both[-1])
    rows: list[dict[str, Any]] = []
    for frame in [n for n in both if first <= n <= last]:
        if form == "volume":
            x, y = channel_of(one, frame, channel), channel_of(two, frame, to or channel)
            found = difference(x, y)[1].as_dict()
            rows.append({"frame": frame, **found, "a": asdict(numbers_of(x)), "b": asdict(numbers_of(y))})
            line = f"a to {rows[-1]['a']['high']:.4g}, b to {rows[-1]['b']['high']:.4g}; "
            line += "the same" if found["same"] else (
                f"greatest {found['greatest']:.4g} at {' '.join(f'{v:.3g}' for v in found['at'])} m, "
                f"rms {found['rms']:.4g}, mean {found['mean']:.4g}"
            )  # fmt: skip
        else:
            rows.append({"frame": frame, **points_apart(one, two, frame)})
            r = rows[-1]
            line = f"{r['both']:,} in both; apart by {r['mean']:.4g} m in the mean, {r['greatest']:.4g} m at most"
        if not as_json:
            print(f"{frame:>5}  {line}")
    if as_json:
        print(json.dumps(rows, indent=1))


@app.command()
def sweep(
    study: StudyArg,
    flow: Annotated[str, typer.Option(help="Id of a flow")],
    vary: Annotated[
        list[str],
        typer.Option(help="PATH=1,2,3 or PATH=low:high:count, or PATH=low:high with --samples; several are combined"),
    ],
    out: Annotated[Path, typer.Option(help="Folder of the runs, the table sweep.json and contact.png")],
    quality: Annotated[str, typer.Option(help="preview or full")] = "preview",
    samples: Annotated[int, typer.Option(help="Draws from the ranges (Latin hypercube) in place of all values")] = 0,
    seed: Annotated[int, typer.Option(help="Of the draws")] = 1,
    frame: Annotated[int | None, typer.Option(help="That is read and shown; the last if left out")] = None,
    workers: Annotated[int, typer.Option(help="Runs at a time here; a cluster takes as many as it can")] = 1,
    read: Annotated[list[str] | None, typer.Option(help="A lane whose mean where the flow is is told too")] = None,
    view: Annotated[str, typer.Option(help="From where the sheet is seen: degrees round (-90: front), up")] = "-60,13",
    dry: Annotated[bool, typer.Option("--dry", help="Only say what it would be")] = False,
) -> None:
    """The same study with other values, a run each; exit code 1 if one of them failed."""
    from errant_gust.cli import sweeping
    from errant_gust.core.flows.kind import kind_of
    from errant_gust.core.pictures.camera import View
    from errant_gust.core.runs.run_readings import LANE, READINGS, units_of
    from errant_gust.core.runs.sweep import label, read_vary

    if quality not in ("preview", "full"):
        raise GustError(f"'{quality}' is not a quality", where="--quality", fix="one of: preview, full")
    plan = open_study(study)
    clock = plan.study.clock
    if frame is not None and not clock.start <= frame <= clock.end:
        raise GustError(f"{frame} is not a frame", where="--frame", fix=f"{clock.start} to {clock.end}")
    lanes = tuple(plan.study.find("fields", lane, "--read").id for lane in read or ())
    angles = [_finite(float(part), "--view") for part in view.split(",")] if re.fullmatch(VIEW, view) else []
    if len(angles) != 2:
        raise GustError(f"'{view}' is no view", where="--view", fix="right would be -60,25")
    made = sweeping.prepared(plan, flow, [read_vary(text) for text in vary], samples, seed)
    print(sweeping.forecast(plan, flow, quality, len(made), out))
    if dry:
        print("\n".join(label(*one) for one in made))
        return
    done = 0

    def tell(one: Any) -> None:
        nonlocal done
        done += 1
        why = f": {one.message}" if one.state != "done" else ""
        print(f"{done} of {len(made)}  {label(one.values, plan.study)}  {one.state}{why}", flush=True)

    found = sweeping.swept(plan, flow, quality, made, out, workers, frame, tell, lanes)
    units = units_of(kind_of(plan.study.find("flows", flow, "--flow").kind).result(), plan, lanes)
    names = [*READINGS, *(LANE + lane for lane in lanes)]
    print("  ".join(f"{f'{name} {units[name]}'.strip():>14}" for name in names))
    for one in found:
        told = (f"{one.readings[name]:14.4g}" if name in one.readings else f"{'—':>14}" for name in names)
        print("  ".join(told), " ", label(one.values, plan.study))
    print(sweeping.write(found, plan, flow, out, clock.end if frame is None else frame, View(*angles)))
    if any(one.state != "done" for one in found):
        raise typer.Exit(1)


@app.command()
def diff(
    a: Annotated[Path, typer.Argument(metavar="RUN_A", help="Folder of a run")],
    b: Annotated[Path, typer.Argument(metavar="RUN_B", help="Folder of another")],
) -> None:
    """What RUN_B's version of the study changed against RUN_A's, as parameters."""
    from errant_gust.core.runs.frame_store import RunStore
    from errant_gust.core.study.changes import changes
    from errant_gust.core.study.document import parse

    old, new = (RunStore(folder).manifest() for folder in (a, b))
    made = changes(parse(old["study"]), parse(new["study"]), new["flow"])
    for one in made:
        print(f"{one.where:40} {one.words}")
    if not made:
        print("the same version")


@app.command()
def check(study: StudyArg, as_json: JsonFlag = False) -> None:
    """Findings on a study; exit code 1 if any is an error."""
    from errant_gust.core.checks import findings

    found = findings(open_study(study))
    if as_json:
        print(json.dumps([f.as_dict() for f in found], indent=1))
    for f in [] if as_json else found:
        print(f"{f.level:8} {f.where}: {f.what}{'; ' + f.why if f.why else ''}")
    if not found and not as_json:
        print("nothing found")
    if any(f.level == "error" for f in found):
        raise typer.Exit(1)


@app.command()
def bench(
    as_json: JsonFlag = False,
    only: Annotated[str, typer.Option(help="Only rows whose name contains this")] = "",
    browser: Annotated[bool, typer.Option("--browser", help="What only a browser can tell, in Chromium")] = False,
    server: Annotated[bool, typer.Option("--server", help="Open pages, many clients, a sweep on workers")] = False,
    deliveries: Annotated[bool, typer.Option("--deliveries", help="Large deliveries: speed and memory")] = False,
    pictures: Annotated[bool, typer.Option("--pictures", help="Pictures without a screen, of our studies")] = False,
    orders: Annotated[bool, typer.Option("--orders", help="How exact every kind is in time and in space")] = False,
) -> None:
    """The benchmark table, with ratios to references measured in the same run."""
    if orders:
        from errant_gust.cli.bench_orders import run_orders

        run_orders(as_json=as_json, only=only)
        return
    from errant_gust.cli.bench import run_bench

    run_bench(as_json=as_json, only=only, browser=browser, server=server, deliveries=deliveries, pictures=pictures)


@app.command()
def serve(
    port: Annotated[int, typer.Option(help="0 picks a free one")] = 8321,
    browser: Annotated[bool, typer.Option("--browser/--no-browser")] = True,
    demo: Annotated[bool, typer.Option("--demo/--no-demo", help="Put the demo studies in if there are none")] = False,
) -> None:
    """Serve the application on the loopback address."""
    from errant_gust.cli.serve import serve as start

    start(port=port, browser=browser, demo=demo)


@app.command()
def demo(
    port: Annotated[int, typer.Option(help="0 picks a free one")] = 8321,
    browser: Annotated[bool, typer.Option("--browser/--no-browser")] = True,
) -> None:
    """Serve the application with the demo studies."""
    serve(port, browser, demo=True)


def main() -> None:
    """Run a command; errors that the user can mend are one line and exit code 2."""
    try:
        code = app(standalone_mode=False)
    except GustError as error:
        print(f"gust: {error}", file=sys.stderr)
        sys.exit(2)
    except OSError as error:
        if error.errno is None:
            raise
        where = f"{str(error.filename)[:200]}: " if error.filename else ""
        more = "; free some space" if error.errno in FULL else ""
        print(f"gust: {where}{error.strerror or error}{more}", file=sys.stderr)
        sys.exit(2)
    except Exception as error:
        if lacking := absent(error):
            print(f"gust: {lacking}", file=sys.stderr)
            sys.exit(2)
        if type(error).__name__ == "OperationalError":  # of the database: a full disk, or one that cannot be written
            more = "; free some space" if "full" in str(error) else ""
            print(f"gust: the database of the home folder: {error}{more}", file=sys.stderr)
            sys.exit(2)
        said = getattr(error, "format_message", None)  # usage errors of the command-line library
        if said is None:
            raise
        print(f"gust: {said().rstrip('.')}; see gust --help", file=sys.stderr)
        sys.exit(2)
    sys.exit(code if isinstance(code, int) else 0)


if __name__ == "__main__":
    main()
