"""Zips whose expanding has a bound, and writing them so that they keep it."""

import zipfile
import zlib
from collections.abc import Sequence
from pathlib import Path

from errant_gust.core.errors import FileError

FREE = 256 << 20
"""Bytes that any archive may expand to."""
MOST_TIMES = 40
"""How many times as large as its file what is in an archive may be, above that."""


def check_expands(members: Sequence[zipfile.ZipInfo], where: str, fix: str) -> int:
    """The bytes that the members of a zip say they expand to; FileError for what is made of next to nothing, zeros
    mostly: what is made of a few megabytes would have no bound. `where`: the file; `fix`: what would be right."""
    total, packed = sum(m.file_size for m in members), sum(m.compress_size for m in members)
    if total > max(FREE, MOST_TIMES * packed):
        raise FileError(f"{packed / 1e6:,.1f} MB expand to {total / 1e9:,.2f} GB", where=where, fix=fix)
    return total


def may_be_packed(paths: Sequence[Path]) -> set[Path]:
    """Of the files of an archive those that are compressed in it, so that `check_expands` takes it again: all of them,
    unless they are many bytes and some shrink to next to nothing, which are then put in as they are."""
    if sum(path.stat().st_size for path in paths) <= FREE:
        return set(paths)
    return {path for path in paths if _times(path) < MOST_TIMES / 2}


def _times(path: Path) -> float:
    """How many times smaller the file would be in an archive."""
    packer, came, went = zlib.compressobj(1), 0, 0
    with path.open("rb") as file:
        while piece := file.read(1 << 20):
            came += len(piece)
            went += len(packer.compress(piece))
    return came / max(1, went + len(packer.flush()))
