"""Tells open pages that something changed: runs when their jobs say so, studies when they are saved."""

import asyncio
import threading

_lock = threading.Lock()
_waiting: dict[asyncio.Event, asyncio.AbstractEventLoop] = {}
REST = 0.15  # seconds between two looks of one page, however much is told


def changed() -> None:
    """From any thread: wake every page that waits."""
    with _lock:
        listeners = list(_waiting.items())
    for event, loop in listeners:
        try:
            loop.call_soon_threadsafe(event.set)
        except RuntimeError:  # its loop is closed
            leave(event)


def listen() -> asyncio.Event:
    """An event of the running loop that is set whenever something changed; `leave` it in the end."""
    event = asyncio.Event()
    with _lock:
        _waiting[event] = asyncio.get_running_loop()
    return event


def leave(event: asyncio.Event) -> None:
    with _lock:
        _waiting.pop(event, None)
