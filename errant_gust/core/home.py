"""Where the application keeps what it makes, and where what is shipped with it stands."""

import os
from pathlib import Path

import platformdirs

PACKAGE = Path(__file__).resolve().parents[1]


def _clone() -> Path | None:
    """The folder of the project, where this runs from a clone of it."""
    folder = PACKAGE.parent
    return folder if (folder / "gust").is_file() and (folder / "pyproject.toml").is_file() else None


def home() -> Path:
    """The folder for made data (database, uploads, runs): ERRANT_GUST_HOME; else `var/` of a clone, or the user's own
    folder for an installed package."""
    if chosen := os.environ.get("ERRANT_GUST_HOME"):
        return Path(chosen).expanduser().resolve()
    clone = _clone()
    return clone / "var" if clone else platformdirs.user_data_path("errant-gust", appauthor=False)


def compiled() -> Path:
    """The folder for compiled kernels, which belong to the sources and the machine and not to a home:
    ERRANT_GUST_KERNELS; else `var/kernels` of a clone, or the user's own cache for an installed package."""
    if chosen := os.environ.get("ERRANT_GUST_KERNELS"):
        return Path(chosen).expanduser().resolve()
    clone = _clone()
    return (clone / "var" if clone else platformdirs.user_cache_path("errant-gust", appauthor=False)) / "kernels"


def shipped(name: str) -> Path:
    """A folder that comes with the application: `demo` (studies) or `web` (the built interface)."""
    clone = _clone()
    if clone is None:
        return PACKAGE / "shipped" / name
    return clone / {"web": "web/dist"}.get(name, name)
