"""Whether the database can be used, told before anything is asked of it; a copy of it a day, for when it cannot."""

import sqlite3
import threading
import time
from contextlib import closing, suppress
from datetime import date
from pathlib import Path

from errant_gust.core.errors import FileError
from errant_gust.core.files.writing import aside_of, take_away_cut_off
from errant_gust.core.home import home
from errant_gust.server.backup import DATABASE

COPIES = "database-copies"
KEPT = 7
"""Daily copies that are kept."""
DAY = 24 * 3600.0


def flaw(path: Path) -> str:
    """What keeps a database from being used; empty for a sound one, or none at all."""
    if not path.exists():
        return ""
    try:
        if path.stat().st_size == 0:
            return "is empty"
        with closing(sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True, timeout=20)) as database:
            said = database.execute("PRAGMA quick_check(1)").fetchone()[0]
            if said != "ok":
                return f"is damaged ({str(said).splitlines()[-1][:120]})"
            tables = {row[0] for row in database.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
            if not tables & {"gust_study", "django_migrations"}:
                return "holds no studies: it is of something else"
    except sqlite3.DatabaseError as error:
        return f"is damaged, or none ({error})"
    return ""


def copies() -> list[Path]:
    """Daily copies that are sound, the newest first."""
    found = sorted((home() / COPIES).glob("*.sqlite3"), reverse=True)
    return [path for path in found if not flaw(path)]


def check() -> None:
    """Raises FileError for a database that cannot be used, with the newest copy that can be."""
    path = home() / DATABASE
    wrong = flaw(path)
    lived = any((home() / "studies").glob("*")) or any((home() / COPIES).glob("*.sqlite3"))
    if wrong == "is empty" and not lived:
        return  # a start that was cut off before anything was in it
    if not wrong:
        return
    good = next(iter(copies()), None)
    if good is None:
        fix = f"put a backup in its place (gust restore), or move {DATABASE} away to begin anew"
    else:
        fix = f"the newest good copy is {good}: move {DATABASE}, -wal and -shm away and copy it there as {DATABASE}"
    raise FileError(f"the database {wrong}; nothing was changed", where=str(path), fix=fix)


def copy_today() -> Path | None:
    """A copy of the database of this day, whole or not at all; None if there is one already, or no room."""
    to = home() / COPIES / f"{date.today().isoformat()}.sqlite3"
    if to.exists():
        return None
    to.parent.mkdir(mode=0o700, exist_ok=True)
    aside = aside_of(to)
    try:
        aside.unlink(missing_ok=True)
        with closing(sqlite3.connect(home() / DATABASE)) as source, closing(sqlite3.connect(aside)) as target:
            source.backup(target, pages=1024)
            target.execute("PRAGMA journal_mode=DELETE")
        aside.chmod(0o600)
        aside.replace(to)
    except (sqlite3.Error, OSError):  # a disk that is full says so elsewhere
        with suppress(OSError):
            aside.unlink(missing_ok=True)
        return None
    for old in sorted(to.parent.glob("*.sqlite3"), reverse=True)[KEPT:]:
        take_away_cut_off(old)
        old.unlink(missing_ok=True)
    return to


def copy_daily() -> None:
    """Copy it now, and every day while the server goes."""

    def go() -> None:
        while True:
            copy_today()
            time.sleep(DAY / 24)

    threading.Thread(target=go, daemon=True, name="gust-copies").start()
