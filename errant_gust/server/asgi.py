"""The ASGI application."""

import os
import warnings

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "errant_gust.server.settings")

# files are sent from a spool that is read synchronously; that is meant
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")

from django.core.asgi import get_asgi_application  # noqa: E402  (the settings must be named before)

application = get_asgi_application()
