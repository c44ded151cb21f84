"""The ASGI application."""

import asyncio
import json
import os
import threading
import warnings
from collections.abc import MutableMapping
from typing import Any

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "errant_gust.server.settings")

# files are sent from a spool that is read synchronously; that is meant
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")

import django  # noqa: E402  (the settings must be named before)
from asgiref.sync import sync_to_async  # noqa: E402
from django.core.handlers.asgi import ASGIHandler  # noqa: E402
from django.http import FileResponse, HttpRequest, HttpResponseBase  # noqa: E402

django.setup(set_prefix=False)


class Pages(ASGIHandler):
    """Django in one thread a request. As it comes, a request goes back and forth between the loop and its thread at
    each middleware that is not asynchronous: with fifty who look that took a third of the server's time."""

    def load_middleware(self, is_async: bool = False) -> None:
        super().load_middleware(is_async=False)

    async def run_get_response(self, request: HttpRequest) -> HttpResponseBase:
        response: HttpResponseBase = await sync_to_async(self.get_response, thread_sensitive=True)(request)
        response._handler_class = self.__class__  # type: ignore[attr-defined]
        if isinstance(response, FileResponse):
            response.block_size = self.chunk_size
        return response


pages = Pages()

from errant_gust.core.errors import FileError, GustError  # noqa: E402
from errant_gust.server.api.turns import too_long  # noqa: E402  (needs the models)
from errant_gust.server.events import PATH, events  # noqa: E402
from errant_gust.server.limits import most_of  # noqa: E402
from errant_gust.server.line import LONGEST  # noqa: E402
from errant_gust.server.safety import HEADERS  # noqa: E402

LOOKS = "/api/look/"
GRACE = 4.0
"""Seconds that a look has, when its time is over, to say so itself."""
Message = MutableMapping[str, Any]
_left: set[asyncio.Future[None]] = set()
"""Looks that go on, so that nothing forgets them."""


async def application(scope: dict[str, Any], receive: Any, send: Any) -> None:
    """Events beside Django, which keeps a thread for every answer that goes on; the rest by Django."""
    if scope["type"] == "http" and scope["path"] == PATH:
        await events(scope, receive, send)
    elif scope["type"] == "http":
        await _watched(scope, receive, send)
    else:
        await pages(scope, receive, send)


async def _watched(scope: dict[str, Any], receive: Any, send: Any) -> None:
    """Whoever computes for a request is told when its client has gone (`scope["gone"]`), and a look whose thread
    answers nothing, whatever holds it, is answered here."""
    gone, begun, over = threading.Event(), False, False

    most, came, refused = most_of(scope["path"], scope["query_string"].decode("latin1")), 0, False
    length = next((v for k, v in scope["headers"] if k.lower() == b"content-length"), b"0")
    if not length.isdigit() or int(length) > most:
        await _refuse(send, most)
        return

    async def heard() -> Message:
        nonlocal came, refused
        message: Message = await receive()
        came += len(message.get("body", b""))
        if came > most and not refused:  # it says no length, or another one
            refused = True
            await _refuse(send, most)
            return {"type": "http.disconnect"}
        if message["type"] == "http.disconnect":
            gone.set()
        return message

    async def said(message: Any) -> None:
        nonlocal begun
        begun = True
        if not over and not refused:
            await send(message)

    work = pages({**scope, "gone": gone.is_set}, heard, said)
    if not scope["path"].startswith(LOOKS):
        await work
        return
    # a thread cannot be ended: it is left to itself, and what it says too late goes nowhere
    task = asyncio.ensure_future(work)
    _left.add(task)
    task.add_done_callback(_left.discard)
    await asyncio.wait({task}, timeout=LONGEST + GRACE)
    if task.done():
        task.result()
        return
    gone.set()
    over = True
    if not begun:
        await _give_up(send)


async def _refuse(send: Any, most: int) -> None:
    await _answer(send, 413, FileError(f"is larger than {most >> 20} MiB", where="request", fix="reduce it"))


async def _give_up(send: Any) -> None:
    await _answer(send, 503, too_long())


async def _answer(send: Any, status: int, error: GustError) -> None:
    """An answer in words, beside Django."""
    body = json.dumps({"what": error.what, "where": error.where, "fix": error.fix, "message": str(error)}).encode()
    told = {"Content-Type": "application/json", "Content-Length": str(len(body)), "Connection": "close", **HEADERS}
    headers = [(name.lower().encode(), value.encode()) for name, value in told.items()]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
