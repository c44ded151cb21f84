"""Files that were made for it, in one zip with a checksum list."""

import tempfile
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, cast

from errant_gust.core.files.writing import add_file, zip_entry


class _Passed:
    """What a zip writes, to be taken piece by piece; without a way back, so that it writes sizes behind the data."""

    def __init__(self) -> None:
        self.waiting: list[bytes] = []

    def write(self, data: bytes) -> int:
        self.waiting.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        """Nothing is held back."""

    def taken(self) -> bytes:
        made, self.waiting = b"".join(self.waiting), []
        return made


def pieces_of_zip(folder: Path, names: list[str]) -> Iterator[bytes]:
    """A zip of files of a folder, in pieces of about a megabyte as they are read."""
    out = _Passed()
    with zipfile.ZipFile(cast(IO[bytes], out), "w", zipfile.ZIP_STORED) as archive:
        for name in names:
            with (folder / name).open("rb") as source, archive.open(zip_entry(name), "w", force_zip64=True) as target:
                while piece := source.read(1 << 20):
                    target.write(piece)
                    yield out.taken()
    yield out.taken()


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
