"""Writing a file whole or not at all, and zips whose bytes depend on nothing but what is in them."""

import os
import threading
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from errant_gust.core.errors import FileError
from errant_gust.core.files.room import FULL, NoRoom


@contextmanager
def written_whole(path: Path) -> Iterator[BinaryIO]:
    """A binary file that takes the place of `path` only when all of it is written and synced. Raises NoRoom where
    the disk is full, FileError for anything else that the system refuses."""
    # nobody else writes it: threads of one process do not share it; names have a length
    aside = path.with_name(f".{path.name[:80]}.{os.getpid()}.{threading.get_ident()}.part")
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
