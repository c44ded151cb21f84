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

from django.core.asgi import get_asgi_application  # noqa: E402  (the settings must be named before)

pages = get_asgi_application()

from errant_gust.server.api.turns import too_long  # noqa: E402  (needs the models)
from errant_gust.server.events import PATH, events  # noqa: E402
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

    async def heard() -> Message:
        message: Message = await receive()
        if message["type"] == "http.disconnect":
            gone.set()
        return message

    async def said(message: Any) -> None:
        nonlocal begun
        begun = True
        if not over:
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


async def _give_up(send: Any) -> None:
    error = too_long()
    body = json.dumps({"what": error.what, "where": "", "fix": error.fix, "message": str(error)}).encode()
    headers = [(b"content-type", b"application/json"), *((k.lower().encode(), v.encode()) for k, v in HEADERS.items())]
    await send({"type": "http.response.start", "status": 503, "headers": headers})
    await send({"type": "http.response.body", "body": body})
