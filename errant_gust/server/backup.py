"""One file that holds a home folder, taken while the server runs, and a home folder made of one.

A zip: `backup.json` (format, version, what is in it), the database as SQLite's own backup gives it, the files of
studies with their flipbooks, and of runs their manifests and as many frames as were asked for. No secret and no kernel
is taken along, and no delivery: each holds the command that makes it again.
"""

import json
import lzma
import sqlite3
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from errant_gust.core.errors import FileError
from errant_gust.core.files.room import NoRoom, free_at, in_words, kept_free
from errant_gust.core.files.writing import add_file, folder_aside, take_away_cut_off, written_whole, zip_entry
from errant_gust.core.home import home
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import IDENTITY
from errant_gust.server.keys import KEY

FORMAT = "errant-gust-backup"
DATABASE = "errant_gust.sqlite3"
MIGRATIONS = Path(__file__).parent / "migrations"
MOST_FILES = 20_000_000
FOLDERS = ("studies", "flipbooks", "runs")
OF_A_RUN = ("manifest.json", "log.txt")
Progress = Callable[[float], None]


def _version() -> str:
    """Of the database: the newest migration."""
    return max(p.stem for p in MIGRATIONS.glob("0*.py"))


def database() -> Path:
    """The database of the home folder."""
    return home() / DATABASE


def back_up(file: Path, frames: str = "pinned", progress: Progress = lambda share: None) -> str:
    """Write the home folder into a new file; `frames`: of runs that are pinned, all, or none. What was done, in words.

    The database is that of one moment; files that come or go while it is written do no harm.
    """
    copied = file.with_name(f"database-{file.name}")
    take_away_cut_off(file, copied)
    if file.exists():
        raise FileError("is there already", where=str(file), fix="choose another name")
    if not database().is_file():
        raise FileError("holds no database", where=str(home()), fix="ERRANT_GUST_HOME names the home folder")
    file.parent.mkdir(parents=True, exist_ok=True)
    with folder_aside(copied) as aside:
        copy = aside / DATABASE
        pinned = _copied(copy)
        runs = sorted(p for p in (home() / "runs").glob("[!.]*") if (p / "manifest.json").is_file())
        whole = [p for p in runs if frames == "all" or (frames == "pinned" and p.name in pinned)]
        studies = sorted((home() / "studies").glob("[!.]*"))
        films = sorted((home() / "flipbooks").glob("[!.]*"))
        with written_whole(file) as target, zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as archive:
            about = {"format": FORMAT, "version": _version(), "frames": frames}
            archive.writestr(zip_entry("backup.json"), json.dumps(about))
            add_file(archive, copy, DATABASE, compressed=True)
            for n, folder in enumerate([*studies, *films, *runs]):
                for path in _files_of(folder, folder in whole):
                    with suppress(FileNotFoundError):  # it was taken away meanwhile
                        add_file(archive, path, str(path.relative_to(home())))
                progress((n + 1) / max(1, len(studies) + len(films) + len(runs)))
    return f"{len(studies)} studies and {len(runs)} runs, {len(whole)} of these with their frames"


def _copied(to: Path) -> set[str]:
    """The database at one moment, whoever writes to it; the identities of its pinned runs."""
    with closing(sqlite3.connect(database())) as source, closing(sqlite3.connect(to)) as target:
        source.backup(target, pages=1024)
        target.execute("PRAGMA journal_mode=DELETE")
        return {str(row[0]) for row in target.execute("SELECT identity FROM gust_run WHERE pinned")}


def _files_of(folder: Path, frames: bool) -> Iterator[Path]:
    if folder.parent.name != "runs":
        yield from sorted(p for p in folder.rglob("*") if p.is_file() and not p.name.startswith("."))
        return
    yield from (folder / name for name in OF_A_RUN if (folder / name).is_file())
    if frames:
        store = RunStore(folder)
        for frame in store.frames():
            yield from sorted(p for p in store.path(frame).rglob("*") if p.is_file())


UNREADABLE = (
    zipfile.BadZipFile, EOFError, ValueError, NotImplementedError, sqlite3.Error, RuntimeError, lzma.LZMAError,
    zlib.error, KeyError, TypeError, AttributeError, struct.error,
)  # fmt: skip
"""What the library's readers meet in an archive or a database that is damaged."""


def put_back(file: Path, to: Path, progress: Progress = lambda share: None) -> str:
    """Make a home folder of a backup, whole or not at all. What was done, in words."""
    to = to.expanduser().resolve()
    take_away_cut_off(to)
    if to.exists() and (not to.is_dir() or any(to.iterdir())):
        raise FileError("is there and is not empty", where=str(to), fix="name a new folder")
    try:
        with zipfile.ZipFile(file) as archive:
            entries = _checked(archive, file)
            to.parent.mkdir(parents=True, exist_ok=True)
            need = sum(e.file_size for e in entries)
            if need + kept_free() > free_at(to.parent):
                raise NoRoom(f"needs {in_words(need)}, more than is free", where=str(to), fix="free some space")
            with folder_aside(to) as aside:
                made = aside / "home"
                for n, entry in enumerate(entries):
                    archive.extract(entry, made)  # checks each file's sum
                    progress((n + 1) / len(entries))
                said = _settled(made, file)
                if to.exists():
                    to.rmdir()
                made.rename(to)
                return said
    except FileNotFoundError:
        raise FileError("is not there", where=str(file)) from None
    except OSError as error:
        if error.errno is not None:
            raise
        raise FileError(f"is no backup, or a broken one ({error})", where=str(file)) from None
    except UNREADABLE as error:
        raise FileError(f"is no backup, or a broken one ({error})", where=str(file)) from None


def _checked(archive: zipfile.ZipFile, file: Path) -> list[zipfile.ZipInfo]:
    """The entries of a backup of ours, each within the folder that it makes."""
    entries = archive.infolist()
    names = {e.filename for e in entries}
    if "backup.json" not in names or DATABASE not in names or archive.getinfo("backup.json").file_size > 10_000:
        raise FileError("is no backup", where=str(file), fix="right would be what `gust backup` wrote")
    about: dict[str, Any] = json.loads(archive.read("backup.json"))
    if not isinstance(about, dict) or about.get("format") != FORMAT:
        raise FileError("is no backup", where=str(file), fix="right would be what `gust backup` wrote")
    if str(about.get("version")) > _version():
        raise FileError("was written by a newer version", where=str(file), fix="restore it with that version")
    if len(entries) > MOST_FILES:
        raise FileError(f"holds {len(entries):,} files", where=str(file))
    for entry in entries:
        parts = entry.filename.split("/")
        inside = parts[0] in ("backup.json", DATABASE) or (parts[0] in FOLDERS and len(parts) > 2)
        if not inside or entry.is_dir() or any(p in ("", ".", "..") or "\\" in p for p in parts):
            raise FileError(f"holds '{entry.filename[:80]}', which no backup does", where=str(file))
    return entries


def _settled(made: Path, file: Path) -> str:
    """What came out is sound; rows of runs say which frames are there now."""
    (made / "backup.json").unlink()
    with closing(sqlite3.connect(made / DATABASE)) as database:
        if database.execute("PRAGMA integrity_check").fetchone()[0] != "ok":
            raise FileError("the database in it is broken", where=str(file))
        runs = list(database.execute("SELECT identity, last FROM gust_run"))
        keys = [str(row[0]) for row in database.execute("SELECT key FROM gust_study")]
        strange = [str(i) for i, _ in runs if not IDENTITY.fullmatch(str(i))]
        strange += [key for key in keys if not KEY.fullmatch(key)]
        if strange:  # what a folder is called after: a backup of ours holds nothing else
            raise FileError(f"names a run or a study '{strange[0][:60]}', which no backup does", where=str(file))
        for identity, last in runs:
            store = RunStore(made / "runs" / identity)
            there = store.frames()
            state = "done" if there and there[-1] >= last else "stopped"
            database.execute(
                "UPDATE gust_run SET state = ?, bytes = ?, message = '' WHERE identity = ?",
                (state, store.bytes() if there else 0, identity),
            )
        studies = database.execute("SELECT COUNT(*) FROM gust_study").fetchone()[0]
        database.commit()
    return f"{studies} studies and {len(runs)} runs"
