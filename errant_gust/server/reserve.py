"""Some room that a home keeps for itself: with it a server starts on a full disk, where things can then be freed."""

import os
from contextlib import suppress

from errant_gust.core.files.room import free_at
from errant_gust.core.home import home

NAME = "reserve"
BYTES = 4 << 20
"""What it takes to start, to note what is taken away, and to say so."""


def keep() -> None:
    """Put it aside, where there is room for ten of it."""
    path = home() / NAME
    with suppress(OSError):
        if (path.exists() and path.stat().st_size == BYTES) or free_at(home()) < 10 * BYTES:
            return
        with path.open("wb") as file:
            os.posix_fallocate(file.fileno(), 0, BYTES)


def give_up() -> bool:
    """Free it, where less than half of it is free otherwise: whether the disk is as full as that."""
    if free_at(home()) > BYTES // 2:
        return False
    (home() / NAME).unlink(missing_ok=True)
    return True
