"""Serve the application: migrate, put the demos in, take runs up again, say when it answers."""

import faulthandler
import functools
import gc
import importlib
import os
import signal
import socket
import sys
import threading
import time
import urllib.request
import webbrowser
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from errant_gust.core.errors import GustError
from errant_gust.core.home import home

STACKS = "stacks.txt"
"""In the home folder: what every thread of the server does, when it is sent SIGUSR1."""

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "errant_gust.server.settings")


def serve(*, port: int, browser: bool, demo: bool) -> None:
    """Runs until interrupted. Prints `Errant Gust is ready at …` when it answers."""
    from errant_gust.core.runs.lease import leased
    from errant_gust.server import reserve

    home().mkdir(mode=0o700, parents=True, exist_ok=True)  # before anybody else makes it for all to read
    full = reserve.give_up()
    if full:
        print(f"gust: the disk is full; {FREE_SPACE}", file=sys.stderr, flush=True)
    told = "is served already, by the process"
    with (
        leased(home(), told, "use that server, or another folder (ERRANT_GUST_HOME)"),
        (home() / STACKS).open("w") as stacks,
    ):
        faulthandler.register(signal.SIGUSR1, file=stacks, all_threads=True)
        _serve(port, browser, demo, full)


def _serve(port: int, browser: bool, demo: bool, full: bool) -> None:
    gc.disable()  # what is loaded now stays: looking through it again and again took a tenth of the start
    import django

    django.setup()
    import uvicorn
    from django.core.management import call_command

    from errant_gust.server import backup, database, deliveries, flipbooks, reserve, runs, shelf, study_files, workers
    from errant_gust.server.compiling import compiling

    compiling.begin()
    chosen = _free(port)
    database.check()
    full = (
        _only_read(lambda: call_command("migrate", verbosity=0), "the database could not be brought up to date") or full
    )
    with suppress(OSError):
        (home() / backup.DATABASE).chmod(0o600)
    for tidied in (study_files.sweep_uploads, shelf.sweep, flipbooks.sweep, deliveries.sweep):
        full = _only_read(tidied, "what is left of earlier work stays") or full
    workers.begin()
    full = _only_read(runs.take_up, "runs are not taken up") or full
    if not full:
        reserve.keep()
        database.copy_daily()
    if demo and not full:
        for study in study_files.put_in_demos():
            if os.environ.get("ERRANT_GUST_DEMO_RUNS") == "0":  # a preview then begins when its study is opened
                continue
            compiling.when_ready(functools.partial(_preview, study))
    address = f"http://127.0.0.1:{chosen}"
    threading.Thread(target=_announce, args=(address, browser), daemon=True).start()
    config = uvicorn.Config(
        "errant_gust.server.asgi:application", host="127.0.0.1", port=chosen, log_level="warning", lifespan="off",
        proxy_headers=False, access_log=False, timeout_graceful_shutdown=1,
    )  # fmt: skip
    importlib.import_module("errant_gust.server.urls")  # all that answers
    gc.freeze()
    gc.enable()
    # uvicorn sends itself the signal that ended it once more, when it is done
    signal.signal(signal.SIGTERM, lambda number, frame: sys.exit(0))
    try:
        uvicorn.Server(config).run()
    finally:
        runs.leave()
        compiling.end()
        workers.end_all()


def _preview(study: Any) -> None:
    """Begin the runs of a demo, so that there is something to look at when it is opened."""
    from errant_gust.server import runs

    for flow in study.head.document["flows"]:
        runs.start(study.key, flow["id"], "preview")


def _only_read(work: Callable[[], object], otherwise: str) -> bool:
    """Do something that writes; whether the disk is too full for it, which is told: what is there can be looked at."""
    from django.db import OperationalError

    from errant_gust.server.faults import told

    try:
        work()
    except (OSError, OperationalError, GustError) as error:
        found = told(error)
        if found is None:
            raise
        print(f"gust: {found[1]['what']}: {otherwise}; {FREE_SPACE}", file=sys.stderr, flush=True)
        return True
    return False


FREE_SPACE = "free some space (gust tidy --yes, or the Runs page) and start again; until then it is only read"


def _free(port: int) -> int:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            raise GustError(f"port {port} is taken", where="--port", fix="another one, or 0 for any free one") from None
        return int(probe.getsockname()[1])


def _announce(address: str, browser: bool) -> None:
    for _ in range(600):
        try:
            urllib.request.urlopen(f"{address}/api/studies", timeout=2).read()
            break
        except OSError:
            time.sleep(0.05)
    print(f"Errant Gust is ready at {address}", flush=True)
    if browser:
        webbrowser.open(address)
