"""`gust run`: frames of a flow without a server, and what checks say of it."""

import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Annotated, Any

import typer

from errant_gust.cli.app import StudyArg, app, bar, err, frame_range, open_study, stopping
from errant_gust.core.errors import Cancelled, GustError


@app.command()
def run(
    study: StudyArg,
    flow: Annotated[str, typer.Option(help="Id of a flow")],
    out: Annotated[Path, typer.Option(help="Folder of the run; an unfinished run in it is continued")],
    frames: Annotated[str, typer.Option(help="A-B; frames before A that B needs are computed too")] = "",
    quality: Annotated[str, typer.Option(help="preview or full")] = "full",
) -> None:
    """Compute a run without a server. Ctrl-C stops and keeps what is done."""
    from errant_gust.core.checks import findings_of, findings_on_frame
    from errant_gust.core.runs.compute import FrameDone, compute

    if quality not in ("preview", "full"):
        raise GustError(f"'{quality}' is not a quality", where="--quality", fix="right would be preview or full")
    plan = open_study(study)
    first, last = frame_range(frames, plan.study.clock.start, plan.study.clock.end)
    said = _said_in(3.0, partial(findings_of, plan, flow))  # what `gust check` says of it, if that is soon known
    for one in said or ():
        _tell(one.level, one)
    with stopping() as stopped, bar() as shown:
        task = shown.add_task(f"{flow}, frames {first} to {last}", total=last - plan.study.clock.start + 1)

        def report(done: FrameDone) -> None:
            shown.update(task, completed=done.done)

        try:
            store = compute(
                plan.study, flow, out, quality=quality, assets=plan.assets, last=last, cancel=stopped, report=report
            )
        except Cancelled:
            shown.stop()
            err.print(f"stopped; the frames so far are kept in {out}, the same command continues")
            raise typer.Exit(130) from None
    ready = store.frames()
    print(f"{out}: {len(ready)} frames, {store.bytes() / 1e6:.1f} MB")
    for one in findings_of(plan, flow) if said is None else ():
        _tell(one.level, one)
    for one in findings_on_frame(plan, flow, store, last):
        _tell(f"{one.level} on frame {last}", one)


def _said_in(seconds: float, work: Callable[[], Any]) -> Any:
    """What is found, if it is found within so many seconds; else None."""
    from errant_gust.core.wanted import while_wanted

    end = time.monotonic() + seconds
    try:
        with while_wanted(lambda: time.monotonic() > end):
            return work()
    except Cancelled:
        return None


def _tell(level: str, one: Any) -> None:
    """A finding, a line on stderr."""
    more = f" ({one.why})" if one.why else ""
    print(f"{level}: {one.where}: {one.what}{more}", file=sys.stderr)
