"""Room on the disk: how much must stay free, and the error that says that there is none."""

import errno
import os
import shutil
from pathlib import Path

from errant_gust.core.errors import FileError, GustError

FULL = (errno.ENOSPC, errno.EDQUOT)


class NoRoom(FileError):
    """The disk is full, or nearly; who writes may wait for room and go on."""


def kept_free() -> int:
    """Bytes that runs leave free on the disk: ERRANT_GUST_ROOM in GB, 0.5 if it is not set. Raises GustError for a
    setting that is no size."""
    chosen = os.environ.get("ERRANT_GUST_ROOM", "")
    try:
        return int(float(chosen or 0.5) * 1e9)
    except ValueError:
        raise GustError(f"'{chosen}' is no size", where="ERRANT_GUST_ROOM", fix="right would be 0.5, in GB") from None


def in_words(size: int) -> str:
    """Bytes as one reads them."""
    if size >= 1e9:
        return f"{size / 1e9:.2f} GB"
    return f"{size / 1e3:.0f} kB" if 0 < size < 1e5 else f"{size / 1e6:.1f} MB"


def free_at(folder: Path) -> int:
    """Bytes that are free where a folder is."""
    return shutil.disk_usage(folder).free


def has_room(folder: Path) -> bool:
    """Whether more is free where a folder stands than must stay free."""
    return free_at(folder) >= kept_free()


def check_room(folder: Path, fix: str) -> None:
    """NoRoom where less is free than must be. Raises it with how much there is and how much must stay."""
    if not has_room(folder):
        raise NoRoom(
            f"there is no room: {in_words(free_at(folder))} are free, {in_words(kept_free())} must stay so",
            where=str(folder), fix=fix,
        )  # fmt: skip
