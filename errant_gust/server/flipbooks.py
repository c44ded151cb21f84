"""Flipbooks of the server: begun by a page, which sends a picture a frame, or drawn by the core; made into films."""

import re
import threading
import time
import uuid
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from django.utils import timezone

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.files.removing import remove
from errant_gust.core.home import home
from errant_gust.core.looking.filming import Shot, begun, order_of
from errant_gust.core.looking.flipbook import MOVIE, Film, Flipbook
from errant_gust.core.pictures.camera import Camera
from errant_gust.core.pictures.quality import quality_of
from errant_gust.core.pictures.taking import check_size
from errant_gust.core.study.viewpoints import camera_path
from errant_gust.server import revisions, runs, workers
from errant_gust.server.models import Study
from errant_gust.server.shelf import KEPT, stage_of

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


@dataclass
class Making:
    """A film that is made of its pictures, or drawn from `runs` (folders) first."""

    made: Flipbook
    total: int
    runs: list[str] = field(default_factory=list)
    done: int = 0
    encoding: bool = False
    failed: str = ""
    notes: list[str] = field(default_factory=list)
    began: float = field(default_factory=time.monotonic)
    over: threading.Event = field(default_factory=threading.Event)
    order: str = field(init=False)
    """What who does it knows it by."""

    def __post_init__(self) -> None:
        self.encoding = not self.runs
        given = {"folder": str(self.made.folder), **({"runs": self.runs} if self.runs else {})}
        self.order = workers.FILMS.do("drawn" if self.runs else "film", given, self._told, self._ended)

    def _told(self, facts: dict[str, Any]) -> None:
        if facts.get("encoding") and not self.encoding:
            self.encoding, self.began = True, time.monotonic()
        self.done = int(facts["done"])

    def _ended(self, result: dict[str, Any]) -> None:
        self.notes = result.get("notes", [])
        if result["state"] == "failed":
            self.failed = result["message"]
        elif result["state"] == "stopped" and not self.runs:
            self.failed = "it was stopped"
        self.over.set()


_making: dict[str, Making] = {}
"""By id; until the page that asked has been told how it ended, or the flipbook is taken away."""
_lock = threading.Lock()


def draw(study: str, film: Film, identities: list[str], views: list[dict[str, Any]], quality: str) -> str:
    """Begin to draw a flipbook of runs, the first of which is looked at, through viewpoints that are tied to frames, or
    one; its id. Raises GustError."""
    revisions.get(study)
    film.check()
    check_size((film.width, film.height))
    if not identities:
        raise GustError("no flow that is shown has a run", where="runs", fix="run one first")
    if not views:
        raise GustError("there is no camera", where="views", fix="say where it stands")
    stages = [stage_of(one) for one in identities]
    lacking = [s.flow for s in stages if not set(range(film.first, film.last + 1)) <= set(s.store.frames())]
    if lacking:
        raise GustError(
            f"not all frames of {' and '.join(lacking)} are computed", where="frames", fix="run them, or draw fewer"
        )
    size = (film.width, film.height)
    cameras = [Camera.at(v, size) for v in camera_path(views, film.first, film.last)]
    shot = Shot(stages, cameras, None, quality_of(quality))
    id = uuid.uuid4().hex[:12]
    begun(shot, film, _place() / study / id)
    go_on(study, id)
    return id


def go_on(study: str, id: str) -> dict[str, Any]:
    """Draw what is not drawn of one that the core draws; how far it is. Raises GustError where a run is gone."""
    made = get(study, id)
    order = order_of(made)
    if order is None and not made.done:
        raise GustError("its pictures came from a page: make another", where=id)
    with _lock:
        if order is not None and not made.done and (id not in _making or _making[id].over.is_set()):
            folders = [str(runs.folder_of(runs.get(one).identity)) for one in order["runs"]]
            _making[id] = Making(made, made.film.last - made.film.first + 1, folders)
    return progress(study, id)


def stop(study: str, id: str) -> dict[str, Any]:
    """Draw no more of one; what is drawn stays. How far it is."""
    get(study, id)
    with _lock:
        one = _making.get(id)
    if one is not None:
        workers.FILMS.stop(one.order)
        one.over.wait()
    return progress(study, id)


def finish(study: str, id: str) -> dict[str, Any]:
    """Begin to make its film, unless that goes already; how far it is."""
    made = get(study, id)
    with _lock:
        if not made.done and id not in _making:
            made.check()
            _making[id] = Making(made, made.film.last - made.film.first + 1)
    return progress(study, id)


def progress(study: str, id: str) -> dict[str, Any]:
    """How far a film is: pictures in it, of how many, seconds left, and itself when it is done; `going`: whether
    anybody works at it, `drawing`: whether its pictures are drawn. Raises GustError for one that could not be made."""
    made = get(study, id)
    with _lock:
        one = _making.get(id)
        if one is None or one.over.is_set():
            _making.pop(id, None)
            if one is not None and one.failed:
                raise GustError(f"the film could not be made: {one.failed}", where=id)
            film = told(made) if made.done else None
            frames, drawn = made.film.last - made.film.first + 1, order_of(made) is not None
            return {
                "done": frames if film else len(made.frames) if drawn else 0, "total": frames,
                "left": 0.0 if film else None, "film": film, "going": False, "drawing": drawn,
                "notes": one.notes if one else [],
            }  # fmt: skip
    took = time.monotonic() - one.began
    left = took / one.done * (one.total - one.done) if one.done else None
    return {
        "done": one.done, "total": one.total, "left": left, "film": None, "going": True, "drawing": not one.encoding,
        "notes": [],
    }  # fmt: skip


def unfinished(study: str) -> list[dict[str, Any]]:
    """Those of a study that the core draws and that are not done, the newest first: what they are to be, and how many
    pictures they have."""
    revisions.folder(study)
    found = []
    for path in (_place() / study).glob("*"):
        made = Flipbook(path)
        if ID.fullmatch(path.name) and path.is_dir() and not made.done and order_of(made) is not None:
            with suppress(FileError, OSError):
                found.append((path.stat().st_mtime, {**asdict(made.film), "id": path.name, "drawn": len(made.frames)}))
    return [said for _, said in sorted(found, key=lambda f: f[0], reverse=True)]


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
    found = []
    for path in (_place() / study).glob("*"):
        made = Flipbook(path)
        if ID.fullmatch(path.name) and path.is_dir() and made.done:
            with suppress(FileError, OSError):  # a damaged one hides nobody else's; it is left out
                found.append(((path / MOVIE).stat().st_mtime, told(made)))
    return [said for _, said in sorted(found, key=lambda f: f[0], reverse=True)]


def forget(study: str, id: str) -> None:
    """Take one away; a film that is being made is stopped."""
    made = get(study, id)
    with _lock:
        one = _making.pop(id, None)
    if one is not None:
        workers.FILMS.stop(one.order)
        one.over.wait()
    remove(made.folder)


def sweep() -> None:
    """Take away what a page began and never finished (what the core draws can go on), and those of studies that were
    deleted a day ago or more; called before anybody is served."""
    old = set(Study.objects.filter(deleted__lt=timezone.now() - KEPT).values_list("key", flat=True))
    for folder in _place().glob("*/*"):
        made = Flipbook(folder)
        if folder.is_dir() and (folder.parent.name in old or not (made.done or order_of(made) is not None)):
            remove(folder, quietly=True)


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
