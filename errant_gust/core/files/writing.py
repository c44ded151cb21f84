"""Writing a file whole or not at all, and zips whose bytes depend on nothing but what is in them."""

import hashlib
import os
import shutil
import socket
import threading
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from glob import escape
from pathlib import Path
from typing import BinaryIO

from errant_gust.core.errors import FileError
from errant_gust.core.files.room import FULL, NoRoom

MACHINE = hashlib.sha256(socket.gethostname().encode()).hexdigest()[:8]
"""This machine in names of files that are being written."""


def aside_of(path: Path, suffix: str = "") -> Path:
    """Where a file is written that takes the place of `path` when it is whole: nobody else writes there, threads of one
    process do not share it. `suffix`: for who looks at the ending of a file's name."""
    take_away_cut_off(path)
    return path.with_name(f"{_begins(path)}.{os.getpid()}.{threading.get_ident()}.part{suffix}")


def take_away_cut_off(*paths: Path) -> None:
    """Take away what processes of this machine that were killed have left of files."""
    for path in paths:
        for left in path.parent.glob(f"{escape(_begins(path))}.*.part*"):
            pid = left.name.removeprefix(_begins(path)).split(".")[1]
            if pid.isdigit() and not Path(f"/proc/{pid}").exists():
                _take_away(left)


def _take_away(left: Path) -> None:
    if left.is_dir() and not left.is_symlink():
        shutil.rmtree(left, ignore_errors=True)
    else:
        left.unlink(missing_ok=True)


@contextmanager
def folder_aside(path: Path) -> Iterator[Path]:
    """A new folder beside `path`, for what becomes that or a part of it; afterwards it is taken away with what is still
    in it. One that a kill has left goes when somebody next writes that path."""
    aside = aside_of(path)
    aside.mkdir(mode=0o700)
    try:
        yield aside
    finally:
        _take_away(aside)


def check_new(*paths: Path) -> None:
    """Raises FileError if one of these files is there: they are not written over. What was cut off of them goes."""
    take_away_cut_off(*paths)
    if taken := [p for p in paths if p.exists()]:
        raise FileError("is there already", where=str(taken[0]), fix="choose another folder or delete it")


def _begins(path: Path) -> str:
    return f".{path.name[:80]}.{MACHINE}"  # names have a length


@contextmanager
def written_whole(path: Path) -> Iterator[BinaryIO]:
    """A binary file that takes the place of `path` only when all of it is written and synced. Raises NoRoom where
    the disk is full, FileError for anything else that the system refuses."""
    aside = aside_of(path)
    try:
        with aside.open("wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        aside.replace(path)
    except OSError as error:
        raise (NoRoom if error.errno in FULL else FileError)(
            f"cannot be written ({error.strerror or error})", where=str(path)
        ) from None
    finally:
        aside.unlink(missing_ok=True)


def zip_entry(name: str, compressed: bool = False) -> zipfile.ZipInfo:
    """An entry of a zip without the time of day."""
    entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    entry.compress_type = zipfile.ZIP_DEFLATED if compressed else zipfile.ZIP_STORED
    entry.external_attr = 0o644 << 16
    return entry


def add_file(archive: zipfile.ZipFile, path: Path, name: str, compressed: bool = False) -> None:
    """A file into a zip, piece by piece."""
    entry = zip_entry(name, compressed)
    entry.file_size = path.stat().st_size
    with path.open("rb") as source, archive.open(entry, "w", force_zip64=entry.file_size > 1 << 31) as target:
        while piece := source.read(1 << 20):
            target.write(piece)
