"""Writing a file whole or not at all."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from errant_gust.core.errors import FileError


@contextmanager
def written_whole(path: Path) -> Iterator[BinaryIO]:
    """A binary file that takes the place of `path` only when all of it is written and synced."""
    aside = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with aside.open("wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        aside.replace(path)
    except OSError as error:
        raise FileError(f"cannot be written ({error.strerror or error})", where=str(path)) from None
    finally:
        aside.unlink(missing_ok=True)
