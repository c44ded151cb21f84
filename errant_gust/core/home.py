"""Where the application keeps what it makes: database, uploads, runs, compiled kernels."""

import os
from pathlib import Path


def home() -> Path:
    """The folder for made data: ERRANT_GUST_HOME, or `var/` beside the package."""
    chosen = os.environ.get("ERRANT_GUST_HOME")
    return Path(chosen).expanduser().resolve() if chosen else Path(__file__).resolve().parents[2] / "var"
