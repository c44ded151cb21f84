"""The ASGI application."""

import os

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "errant_gust.server.settings")

from django.core.asgi import get_asgi_application

application = get_asgi_application()
