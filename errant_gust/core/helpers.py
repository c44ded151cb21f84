"""Threads that help: calls made at the same time, one of them here.

A pool of the standard library takes an eighth of a millisecond to hand work over and to learn that it is done, which
is as long as many a loop over a small grid; this takes a quarter of that. Who asks for help never waits for help to
come: what no thread has begun when the caller's own part is done, the caller does. So calls may ask for help
themselves, on any number of threads, and none waits for ever.
"""

import threading
from collections.abc import Callable, Sequence
from queue import SimpleQueue
from typing import Any, Generic, TypeVar

T = TypeVar("T")

MOST = 32
"""Threads at most, over all who ask."""


class _Job(Generic[T]):
    """A call that one thread makes: who claims it first."""

    __slots__ = ("_call", "_done", "_free", "error", "result")

    def __init__(self, call: Callable[[], T]) -> None:
        self._call: Callable[[], T] | None = call
        self._free, self._done = threading.Lock(), threading.Lock()
        self._done.acquire()
        self.result: list[T] = []
        self.error: BaseException | None = None

    def claim(self) -> bool:
        return self._free.acquire(blocking=False)

    def make(self) -> None:
        call, self._call = self._call, None  # it may stay in the line a while, and what the call holds may be large
        assert call is not None
        try:
            self.result.append(call())
        except BaseException as e:  # whatever it is, who asked hears of it
            self.error = e
        finally:
            del call
            self._done.release()

    def wait(self) -> None:
        self._done.acquire()


_jobs: SimpleQueue[_Job[Any]] = SimpleQueue()
_lock = threading.Lock()
_threads: list[threading.Thread] = []
_wanted = 0


def _serve() -> None:
    while True:
        job = _jobs.get()
        if job.claim():
            job.make()
        del job  # and with it what the call holds


def _want(more: int) -> None:
    global _wanted
    with _lock:
        _wanted += more
        while len(_threads) < min(_wanted, MOST):
            _threads.append(threading.Thread(target=_serve, daemon=True, name=f"gust-helper-{len(_threads)}"))
            _threads[-1].start()


def at_once(calls: Sequence[Callable[[], T]]) -> list[T]:
    """Make calls at the same time, the first of them here; their results in order. Returns, or raises the first error
    of the first call that fails, when all that were begun have ended."""
    if len(calls) == 1:
        return [calls[0]()]
    jobs = [_Job(call) for call in calls]
    _want(len(jobs) - 1)
    try:
        for job in jobs[1:]:
            _jobs.put(job)
        for n, job in enumerate(jobs):
            if n == 0 or job.claim():
                if jobs[0].error is None:
                    job.make()
            else:
                job.wait()
    finally:
        _want(1 - len(jobs))
    for job in jobs:
        if job.error is not None:
            raise job.error
    return [job.result[0] for job in jobs]
