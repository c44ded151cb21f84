"""Tells open pages that something changed: runs when their jobs say so, studies when they are saved."""

import asyncio
import threading
from collections import Counter

_lock = threading.Lock()
_waiting: dict[asyncio.Event, tuple[str, asyncio.AbstractEventLoop]] = {}
_everywhere = 0
_serials: Counter[str] = Counter()
REST = 0.15  # seconds between two looks of one page, however much is told
ALL = ""


def changed(*studies: str) -> None:
    """From any thread: wake every page that waits for one of these studies, or every page if none is named."""
    global _everywhere
    with _lock:
        if studies:
            _serials.update(studies)
            _serials[ALL] += 1
        else:
            _everywhere += 1
        listeners = [(e, loop) for e, (of, loop) in _waiting.items() if not studies or of in studies or of == ALL]
    for event, loop in listeners:
        try:
            loop.call_soon_threadsafe(event.set)
        except RuntimeError:  # its loop is closed
            leave(event)


def serial(study: str) -> int:
    """A number that grows with every change of a study, or of anything for ALL."""
    with _lock:
        return _everywhere + _serials[study]


def listen(study: str = ALL) -> asyncio.Event:
    """An event of the running loop that is set whenever something of a study changed, or anything; `leave` it in the
    end."""
    event = asyncio.Event()
    with _lock:
        _waiting[event] = (study, asyncio.get_running_loop())
    return event


def leave(event: asyncio.Event) -> None:
    with _lock:
        _waiting.pop(event, None)
