"""Commands about the home folder, and about machines that compute for it."""

from pathlib import Path
from typing import Annotated

import typer

from errant_gust.cli.app import app, shares
from errant_gust.core.errors import GustError

RunDir = Annotated[Path, typer.Argument(metavar="RUN_DIR", help="Folder of a run")]


@app.command()
def runs(study: Annotated[str, typer.Option(help="Key of a study; all if left out")] = "") -> None:
    """Every run of the home folder: state, frames, size, and what its version changed."""
    from errant_gust.cli.keeping import list_runs

    print("\n".join(list_runs(study)))


@app.command()
def log(run_dir: RunDir) -> None:
    """What happened to a run: who took it up, waited, stopped or failed, and when."""
    from errant_gust.core.runs.frame_store import RunStore
    from errant_gust.core.runs.job import log_of

    RunStore(run_dir).manifest()  # says if it is none
    print("\n".join(log_of(run_dir)) or "nothing was noted")


@app.command()
def mend(
    run_dir: RunDir,
    look: Annotated[bool, typer.Option("--look", help="Only look; exit code 1 if a frame is damaged")] = False,
) -> None:
    """Read every frame of a run by its sums; what a disk has damaged is computed again."""
    from errant_gust.core.runs.frame_store import RunStore
    from errant_gust.core.runs.job import work
    from errant_gust.core.runs.mending import damaged, take_away

    store = RunStore(run_dir)
    store.manifest()
    frames = store.frames()
    with shares("reading") as told:
        found = damaged(store, told)
    for frame, what in found.items():
        print(f"frame {frame}: {what}")
    if not found:
        print(f"{len(frames)} frames are as they were written")
        return
    if look:
        raise typer.Exit(1)
    take_away(store, list(found))
    said = work(str(run_dir), frames[-1])
    if said["state"] != "done":
        raise GustError(said["message"] or said["state"], where=str(run_dir))
    print(f"{len(found)} computed again")


@app.command()
def stop(run_dir: RunDir) -> None:
    """Ask whoever computes a run to stop, on whatever machine; complete frames stay."""
    from errant_gust.core.runs.frame_store import RunStore
    from errant_gust.core.runs.job import ask_to_stop
    from errant_gust.core.runs.lease import holder

    RunStore(run_dir).manifest()
    who = holder(run_dir)
    ask_to_stop(run_dir)
    print(f"{run_dir}: {who['worker']} is asked to stop" if who else f"{run_dir}: nobody computes it now")


@app.command()
def tidy(
    study: Annotated[str, typer.Option(help="Key of a study; all, and what was deleted, if left out")] = "",
    revisions: Annotated[int, typer.Option(help="Also thin revisions older than so many days; 0 leaves them")] = 0,
    yes: Annotated[bool, typer.Option("--yes", help="Free it; otherwise it is only told")] = False,
) -> None:
    """Free the space of runs that nobody pinned, and of old revisions."""
    from errant_gust.cli.keeping import tidy as tidy_up

    print("\n".join(tidy_up(study, yes, revisions)))


@app.command()
def backup(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A new file, best ending in .zip")],
    runs: Annotated[str, typer.Option(help="Frames to take along: none, pinned or all")] = "pinned",
) -> None:
    """Everything of the home folder in one file, while the server runs."""
    from errant_gust.server.backup import back_up

    if runs not in ("none", "pinned", "all"):
        raise GustError(f"'{runs}' is not known", where="--runs", fix="one of: none, pinned, all")
    with shares("backing up") as told:
        made = back_up(file, runs, told)
    print(f"{file}: {made}, {file.stat().st_size / 1e6:.1f} MB")


@app.command()
def restore(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="What `gust backup` wrote")],
    home: Annotated[Path, typer.Option(help="A new or empty folder; ERRANT_GUST_HOME names it afterwards")],
) -> None:
    """Make a home folder of a backup."""
    from errant_gust.server.backup import put_back

    with shares("restoring") as told:
        made = put_back(file, home, told)
    print(f"{home}: {made}; ERRANT_GUST_HOME={home} uses it")


TRUST = "Listen at an address that others reach, though nothing is encrypted: they can run code here"


@app.command()
def scheduler(
    host: Annotated[str, typer.Option(help="Address that it listens at; whoever reaches it runs code")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="That it listens at")] = 8786,
    tls: Annotated[bool, typer.Option("--tls", help="Encrypted, with the certificates of Dask's settings")] = False,
    trusted: Annotated[bool, typer.Option("--trust-this-network", help=TRUST)] = False,
) -> None:
    """Be the scheduler of a cluster, for ERRANT_GUST_SCHEDULER=tcp://host:port."""
    from errant_gust.cli.clustering import scheduler as be

    be(host, port, tls, trusted)


@app.command()
def worker(
    address: Annotated[str, typer.Argument(metavar="ADDRESS", help="Of the scheduler: tcp://machine:8786")],
    memory: Annotated[float, typer.Option(help="GB that runs may take here; four fifths of all if left out")] = 0.0,
    name: Annotated[str, typer.Option(help="For the scheduler's lists")] = "",
    host: Annotated[str, typer.Option(help="This machine's own address that the scheduler reaches it by")] = "",
    trusted: Annotated[bool, typer.Option("--trust-this-network", help=TRUST)] = False,
) -> None:
    """Be a worker of a cluster: the home folder (ERRANT_GUST_HOME) must be the server's, shared."""
    from errant_gust.cli.clustering import worker as be

    be(address, memory, name, host, trusted)
