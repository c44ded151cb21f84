"""Files that were made for it, in one zip with a checksum list."""

import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import IO

from errant_gust.core.files.writing import add_file, zip_entry

SPOOLED = 64 << 20  # bytes in memory before it becomes a file


def zip_made_by(make: Callable[[Path], list[tuple[Path, str]]]) -> IO[bytes]:
    """A zip, ready to be read, of what `make` writes into a folder: (path, sha256) of each file."""
    with tempfile.TemporaryDirectory() as name:
        made = make(Path(name) / "out")
        spool = tempfile.SpooledTemporaryFile(max_size=SPOOLED)  # noqa: SIM115  (who reads it closes it)
        with zipfile.ZipFile(spool, "w", zipfile.ZIP_STORED) as archive:
            for path, _ in made:
                add_file(archive, path, path.name)
            archive.writestr(zip_entry("SHA256SUMS"), "".join(f"{digest}  {path.name}\n" for path, digest in made))
    spool.seek(0)
    return spool
