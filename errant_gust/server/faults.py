"""What a machine may run into while it answers, in words: a full disk, a database that is busy."""

from typing import Any

from django.db import OperationalError

from errant_gust.core.errors import GustError
from errant_gust.core.files.room import FULL, NoRoom

FREE = "free some space; nothing that was saved before is lost"


def told(error: Exception) -> tuple[int, dict[str, Any]] | None:
    """Status and body of an answer; None for what is no such fault."""
    found: GustError | None = None
    status = 507
    if isinstance(error, NoRoom):
        found = error
    elif isinstance(error, OSError) and error.errno in FULL:
        found = NoRoom("the disk is full: this was not kept", fix=FREE)
    elif isinstance(error, OperationalError):
        words = str(error)
        if "full" in words:
            found = NoRoom("the disk is full: this was not saved", fix=FREE)
        elif "locked" in words:
            status, found = 503, GustError("the database is busy: this was not saved", fix="try again in a moment")
        elif "readonly" in words or "I/O" in words:
            found = GustError(f"the database cannot be written ({words})", fix="look at the disk of the home folder")
    if found is None:
        return None
    return status, {"what": found.what, "where": found.where, "fix": found.fix, "message": str(found)}
