"""Django settings: loopback only, SQLite in WAL mode, nothing fetched from elsewhere."""

import os
import secrets

from errant_gust.core.home import home, shipped

HOME = home()
HOME.mkdir(mode=0o700, parents=True, exist_ok=True)
WEB = shipped("web")


def _secret() -> str:
    path = HOME / "secret"
    if not path.exists():
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(48))
    return path.read_text()


SECRET_KEY = os.environ.get("ERRANT_GUST_SECRET") or _secret()
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"]
INSTALLED_APPS = ["errant_gust.server"]
MIDDLEWARE = [
    "errant_gust.server.safety.SafetyMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.common.CommonMiddleware",
]
ROOT_URLCONF = "errant_gust.server.urls"
ASGI_APPLICATION = "errant_gust.server.asgi.application"
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": HOME / "errant_gust.sqlite3",
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;",
        },
        # A file as in use: the in-memory database of tests is shared by threads without waiting for a locked table.
        "TEST": {"NAME": HOME / "test.sqlite3"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
STATIC_URL = "/static/"
WHITENOISE_ROOT = WEB if WEB.is_dir() else None
WHITENOISE_INDEX_FILE = False
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/assets/.+-[\w-]{8}\.\w+$"  # named by their content
USE_TZ = True
TIME_ZONE = "UTC"  # else the process would live in the framework's own
DATA_UPLOAD_MAX_MEMORY_SIZE = 49 << 20  # how much of what is said by `limits`, as it comes
DATA_UPLOAD_MAX_NUMBER_FILES = 5000  # a sequence of meshes
FILE_UPLOAD_MAX_MEMORY_SIZE = 4 << 20
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"django.request": {"level": "ERROR"}},  # a user's mistake is told in the page, not in the log
}
