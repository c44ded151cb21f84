"""The ASGI application."""

import os
import warnings
from typing import Any

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "errant_gust.server.settings")

# files are sent from a spool that is read synchronously; that is meant
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")

from django.core.asgi import get_asgi_application  # noqa: E402  (the settings must be named before)

pages = get_asgi_application()

from errant_gust.server.events import PATH, events  # noqa: E402  (needs the models)


async def application(scope: dict[str, Any], receive: Any, send: Any) -> None:
    """Events beside Django, which keeps a thread for every answer that goes on; the rest by Django."""
    if scope["type"] == "http" and scope["path"] == PATH:
        await events(scope, receive, send)
    else:
        await pages(scope, receive, send)
