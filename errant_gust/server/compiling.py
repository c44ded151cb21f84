"""Kernels that this machine has not compiled yet (see `core.warm`): a server answers meanwhile, and what needs one is
told how long that takes; runs wait for it."""

import logging
import re
import subprocess
import threading
import time
from collections.abc import Callable
from typing import Any

from errant_gust.core import warm

NEEDS = re.compile(
    r"\w+ /api/look/(?!working)|\w+ /api/(compare$|runs/\w+/(frames|halves|export))"
    r"|POST /api/(runs$|runs/\w+/(continue|mend)|sweeps(/forecast)?$|sweeps/\w+/again|hand-over(/plan)?$)"
    r"|POST /api/(bakes|shape-files)"
)
"""What is asked for that a kernel may be needed for."""
LOOKS = 0.25
"""Seconds between looks at how far it is."""
_log = logging.getLogger("errant_gust")


class Compiling:
    """Kernels being compiled by processes that end with this one."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._going: list[subprocess.Popen[bytes]] = []
        self._since, self._had = 0.0, 0.0
        self._ready = True
        self._then: list[Callable[[], None]] = []

    def begin(self) -> None:
        """Have compiled what is not; at once, and on the side."""
        if warm.marker().is_file():
            return
        with self._lock:
            self._ready, self._since, self._had = False, time.monotonic(), warm.share()
            self._going = warm.begun()
        threading.Thread(target=self._wait, daemon=True, name="gust-compiling").start()

    def _wait(self) -> None:
        codes = [process.wait() for process in self._going]
        if codes and not any(codes):
            warm.mark()
        elif self._going:  # they were not ended by `end`; whoever needs one compiles it then
            _log.error("kernels could not be compiled ahead: see what is said above")
        with self._lock:
            self._ready, then, self._then = True, self._then, []
        for work in then:
            try:
                work()
            except Exception:
                _log.exception("what waited for kernels failed")

    def when_ready(self, work: Callable[[], None]) -> None:
        """Do something once all kernels are there: at once, or from another thread."""
        with self._lock:
            if not self._ready:
                self._then.append(work)
                return
        work()

    def told(self) -> dict[str, Any] | None:
        """How far it is, `share` from 0 to 1, and the seconds `left`, about (None as long as that is not known); None
        when there is nothing to wait for."""
        with self._lock:
            if self._ready:
                return None
            since, had = self._since, self._had
        share, gone = min(0.99, warm.share()), time.monotonic() - since
        left = gone * (1 - share) / (share - had) if gone > 5 and share - had > 0.03 else None
        return {"share": share, "left": left}

    def end(self) -> None:
        """End its processes: what they have compiled is kept."""
        with self._lock:
            going, self._going, self._then = self._going, [], []
        for process in going:
            process.kill()
            process.wait()


compiling = Compiling()


def refusal(method: str, path: str) -> dict[str, Any] | None:
    """The body of an answer (503) to what needs a kernel that may not be there yet; None for anything else."""
    if not NEEDS.match(f"{method} {path}"):
        return None
    told = compiling.told()
    if told is None:
        return None
    left = "" if told["left"] is None else f", about {told['left']:.0f} s left"
    what = f"kernels are being compiled for this machine, once{left}"
    return {"what": what, "where": "", "fix": "ask again then", "message": what, "compiling": told}
