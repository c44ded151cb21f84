"""Whether what a thread works on is still wanted.

Who asks says once until when it is wanted (`while_wanted`); whatever waits or loops below asks (`check`), without being
handed a question through every call.
"""

import threading
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext

from errant_gust.core.errors import Cancelled

Cancel = Callable[[], bool]
LOOKS = 0.05
"""Seconds between two looks of one that waits whether it is still wanted."""


class _Asked(threading.local):
    unwanted: Cancel | None = None
    aside: Callable[[], AbstractContextManager[None]] = nullcontext


_asked = _Asked()


@contextmanager
def while_wanted(
    unwanted: Cancel | None, aside: Callable[[], AbstractContextManager[None]] | None = None
) -> Iterator[None]:
    """Within this, on this thread and on those that help it, work ends with Cancelled once `unwanted()` says so,
    besides whatever was asked outside of it. `aside`: what long work is done in, so that others need not wait."""
    before, was_aside = _asked.unwanted, _asked.aside
    if unwanted is not None and before is not None and unwanted is not before:
        outer, inner = before, unwanted
        _asked.unwanted = lambda: inner() or outer()
    else:
        _asked.unwanted = unwanted or before
    if aside is not None:
        _asked.aside = aside
    try:
        yield
    finally:
        _asked.unwanted, _asked.aside = before, was_aside


def unwanted() -> Cancel | None:
    """What tells on this thread that the work is no longer wanted; None if nothing does."""
    return _asked.unwanted


def check() -> None:
    """Raises Cancelled if what this thread does is no longer wanted."""
    if _asked.unwanted is not None and _asked.unwanted():
        raise Cancelled


def aside() -> AbstractContextManager[None]:
    """Within this, work that takes long (frames of a flow) holds up nobody who waits for a picture."""
    return _asked.aside()
