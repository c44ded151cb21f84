"""Start the parts of a cluster with what runs need: the scheduler of `dask.distributed`, and workers that reach it."""

import ipaddress
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from types import FrameType

from errant_gust.core.errors import GustError
from errant_gust.core.home import home

REST = 2.0
"""Seconds before a worker that has ended is begun again: Dask's end when their scheduler goes."""


LOOPBACK = "127.0.0.1"
QUIET = ("--no-dashboard", "--dashboard-address", f"{LOOPBACK}:0")
"""Dask's parts answer HTTP even so, with what they hold: on loopback only, wherever they listen themselves."""


def reached(host: str, encrypted: bool, trusted: bool) -> str:
    """The address to listen at: loopback unless another is named. Raises GustError for another one where whoever
    reaches it could run code without being asked who they are."""
    chosen = host.strip() or LOOPBACK
    if _is_loopback(chosen) or encrypted or trusted:
        return chosen
    raise GustError(
        f"whoever reaches {chosen} could run code here", where="--host",
        fix="encrypt (--tls, or a tls:// address), or say --trust-this-network if nobody else is on it",
    )  # fmt: skip


def _is_loopback(host: str) -> bool:
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return False


def scheduler(host: str, port: int, tls: bool, trusted: bool) -> None:
    """Become a scheduler; `tcp://host:port` is its address, or tls:// with the certificates of Dask's settings."""
    host = reached(host, tls, trusted)
    command = [
        sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", host, "--port", str(port),
        *QUIET, "--no-show", "--protocol", "tls" if tls else "tcp",
    ]  # fmt: skip
    sys.stdout.flush()
    os.execv(sys.executable, command)


def worker(address: str, memory: float, name: str, host: str, trusted: bool) -> None:
    """Be a worker of one run at a time until interrupted, whatever becomes of the scheduler: a run uses all threads
    that ERRANT_GUST_THREADS allows."""
    if "://" not in address:
        raise GustError(f"'{address}' is no address", where="ADDRESS", fix="right would be tcp://machine:8786")
    host = reached(host, address.startswith("tls://"), trusted)
    scratch = home() / "workers"
    scratch.mkdir(parents=True, exist_ok=True)
    allowed = int(memory * 1e9) if memory else _memory()
    command = [
        sys.executable, "-m", "distributed.cli.dask_worker", address, "--nworkers", "1", "--nthreads", "1",
        *QUIET, "--host", host, "--local-directory", str(scratch), "--memory-limit", str(allowed),
        "--resources", f"MEMORY={allowed}", "--protocol", address.partition("://")[0],
        "--preload", "errant_gust.cli",
    ]  # fmt: skip
    command += ["--name", name] if name else []
    child: subprocess.Popen[bytes] | None = None
    over = False

    def end(number: int, frame: FrameType | None) -> None:
        nonlocal over
        over = True
        if child is not None:
            child.send_signal(number)

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGINT, end)
    while not over:
        print(f"worker of {address}, {allowed / 1e9:.1f} GB, in {home()}", flush=True)
        child = subprocess.Popen(command)
        child.wait()
        if not over:
            print(f"it ended ({child.returncode}); again in {REST:.0f} s", flush=True)
            time.sleep(REST)


def _memory() -> int:
    """Four fifths of what the machine has."""
    for line in Path("/proc/meminfo").read_text().splitlines():
        if line.startswith("MemTotal:"):
            return int(0.8 * 1024 * int(line.split()[1]))
    raise GustError("the memory of this machine is not known", where="--memory", fix="say it, in GB")
