"""A parser of somebody else's making, run in a child process with limits on time and memory.

What such a parser does with a crafted file cannot be bounded from within: it may take all memory, never end, or bring
the process down. In a child it takes only the child down, and the file is refused in words.
"""

import ctypes
import os
import resource
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from errant_gust.core.errors import FileError
from errant_gust.core.wanted import LOOKS, check

SECONDS = 60
MEMORY = 3 << 30
OUTPUT = 1 << 30
PARSERS = Path(__file__).parent / "parsers"


def parsed_apart(parser: str, path: Path, where: str, *more: str, seconds: int = SECONDS) -> dict[str, Any]:
    """Arrays by name that a script of `core/parsers` makes of a file; FileError if it cannot, in the words after a '!'
    that it ends with, or for what it ran into. `more`: words that the script is given besides the file."""

    def limited() -> None:  # in the child, before the script begins
        resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
        resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
        resource.setrlimit(resource.RLIMIT_FSIZE, (OUTPUT, OUTPUT))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        ends_with_parent(1, 9)  # PR_SET_PDEATHSIG: it ends with the thread that waits for it

    ends_with_parent = ctypes.CDLL(None).prctl  # looked up before the fork
    few = dict.fromkeys(("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS", "PXR_WORK_THREAD_LIMIT"), "1")
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "made.npz"
        script = str(PARSERS / f"{parser}.py")
        # the child works in a folder of its own: a path beside this process's means nothing there
        command = [sys.executable, "-P", script, str(path.resolve()), path.suffix.lower()[1:], str(out), *more]
        with _place(), (Path(folder) / "said").open("w+b") as said:
            child = subprocess.Popen(
                command, env={**os.environ, **few}, preexec_fn=limited, stdout=subprocess.DEVNULL, stderr=said,
                stdin=subprocess.DEVNULL, cwd=folder,
            )  # fmt: skip
            code = _ended(child, seconds, where)
            said.seek(max(0, said.seek(0, os.SEEK_END) - 8192))
            words = said.read()
        if code == 0 and out.is_file():
            with np.load(out, allow_pickle=False) as data:
                return {name: data[name] for name in data.files}
        raise FileError(_why(code, words, seconds), where=where, fix="export it again, or simpler")


_places = threading.BoundedSemaphore(max(1, len(os.sched_getaffinity(0))))
"""Parsers at once: each may take as much memory as MEMORY."""


@contextmanager
def _place() -> Iterator[None]:
    """Wait for a core to be free of parsers, as long as it is wanted."""
    while not _places.acquire(timeout=LOOKS):
        check()
    try:
        yield
    finally:
        _places.release()


def _ended(child: "subprocess.Popen[bytes]", seconds: int, where: str) -> int:
    """How a parser ended. Raises FileError where it takes too long, Cancelled where nobody wants it any more."""
    end = time.monotonic() + seconds + 10
    try:
        while True:
            try:
                return child.wait(LOOKS)
            except subprocess.TimeoutExpired:
                check()
            if time.monotonic() > end:
                raise FileError(f"took more than {seconds} s to read", where=where, fix="a simpler file")
    finally:
        if child.poll() is None:
            child.kill()
            child.wait()


def _why(code: int, said: bytes, seconds: int) -> str:
    lines = said.decode("utf-8", "replace").strip().splitlines()
    last = lines[-1].strip() if lines else ""
    if last.startswith("!"):
        return last[1:]
    if code < 0:
        return f"took more than {seconds} s to read" if -code in (9, 24) else "is damaged: its reader failed"
    if "MemoryError" in last or "bad_alloc" in last or "Unable to allocate" in last:
        return f"needs more than {MEMORY >> 30} GiB to be read"
    return f"cannot be read ({last[:120] or 'its reader failed'})"
