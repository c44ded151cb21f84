"""Flipbooks of the server: begun by a page, which sends a picture a frame, and made into films."""

import re
import shutil
import uuid
from pathlib import Path
from typing import Any

from django.utils import timezone

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.home import home
from errant_gust.core.looking.flipbook import MOVIE, Film, Flipbook
from errant_gust.server import revisions
from errant_gust.server.models import Study
from errant_gust.server.shelf import KEPT

ID = re.compile(r"[0-9a-f]{12}")


def _place() -> Path:
    return home() / "flipbooks"


def begin(study: str, film: Film) -> str:
    """A new flipbook of a study; its id."""
    revisions.get(study)
    id = uuid.uuid4().hex[:12]
    Flipbook(_place() / study / id).begin(film)
    return id


def get(study: str, id: str) -> Flipbook:
    """One that was begun; what is no id is no path."""
    revisions.folder(study)
    if not ID.fullmatch(id) or not (_place() / study / id).is_dir():
        raise GustError(f"there is no flipbook '{id[:40]}'", where="id")
    return Flipbook(_place() / study / id)


def finish(study: str, id: str) -> dict[str, Any]:
    """Make its film."""
    made = get(study, id)
    made.finish()
    return told(made)


def told(made: Flipbook) -> dict[str, Any]:
    """What a list says of one."""
    film = made.film
    size = sum((made.folder / name).stat().st_size for name in made.files())
    return {
        "id": made.folder.name, "name": film.name, "first": film.first, "last": film.last, "width": film.width,
        "height": film.height, "fps": film.fps, "note": film.note, "bytes": size, "path": str(made.folder),
    }  # fmt: skip


def of(study: str) -> list[dict[str, Any]]:
    """Those of a study that are done, the newest first."""
    revisions.folder(study)
    found = [Flipbook(p) for p in (_place() / study).glob("*") if p.is_dir() and Flipbook(p).done]
    return [told(f) for f in sorted(found, key=lambda f: (f.folder / MOVIE).stat().st_mtime, reverse=True)]


def forget(study: str, id: str) -> None:
    """Take one away."""
    shutil.rmtree(get(study, id).folder)


def sweep() -> None:
    """Take away what a page began and never finished, and those of studies that were deleted a day ago or more; called
    before anybody is served."""
    old = set(Study.objects.filter(deleted__lt=timezone.now() - KEPT).values_list("key", flat=True))
    for folder in _place().glob("*/*"):
        if folder.is_dir() and (folder.parent.name in old or not Flipbook(folder).done):
            shutil.rmtree(folder, ignore_errors=True)


def part_of(path: Path, range_: str) -> tuple[bytes, int, int, int]:
    """Bytes of a file that a player asks for by a Range, from where to where, and of how many. A FileError for a range
    that is outside."""
    size = path.stat().st_size
    found = re.fullmatch(r"bytes=(\d*)-(\d*)", range_.strip())
    if not found or not any(found.groups()):
        raise FileError("is no range of bytes", where="Range", fix="right would be bytes=0-")
    first, last = found.groups()
    low = int(first) if first else max(0, size - int(last))
    high = min(size - 1, int(last)) if first and last else size - 1
    if low > high:
        raise FileError(f"is outside of {size:,} bytes", where="Range")
    with path.open("rb") as file:
        file.seek(low)
        return file.read(high - low + 1), low, high, size
