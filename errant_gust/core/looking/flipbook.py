"""A flipbook: pictures of frames, one PNG each, and the film of them, in a folder of its own.

folder/flipbook.json      what it is, written last
folder/flipbook.0001.png  a picture a frame, as it was given
folder/flipbook.mp4
"""

import io
import json
import re
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import Cancelled, FileError, GustError
from errant_gust.core.files.movie import write_movie
from errant_gust.core.files.writing import written_whole

FORMAT = "errant-gust-flipbook"
MANIFEST = "flipbook.json"
MOVIE = "flipbook.mp4"
ORDER = ".flipbook.order.json"
"""What one that is drawn by the core is drawn from, until it is done."""
MOST_FRAMES = 10_000
SIDES = (64, 4096)
MOST_BYTES = 48 << 20
"""Of one picture."""


@dataclass(frozen=True)
class Film:
    """What a flipbook is to be: frames `first` to `last` at `fps`, in pictures of width × height pixels."""

    name: str
    first: int
    last: int
    width: int
    height: int
    fps: float
    note: str = ""

    def check(self) -> None:
        """Raises GustError for frames, pixels or rates that a film cannot have."""
        if not 1 <= self.last - self.first + 1 <= MOST_FRAMES:
            raise GustError(f"{self.first} to {self.last} are no frames", where="frames", fix="right would be 1 to 48")
        for side, pixels in (("width", self.width), ("height", self.height)):
            if not SIDES[0] <= pixels <= SIDES[1] or pixels % 2:
                raise GustError(f"{pixels} pixels", where=side, fix=f"an even number from {SIDES[0]} to {SIDES[1]}")
        if not 0.1 <= self.fps <= 240:
            raise GustError(f"{self.fps:g} frames a second", where="fps", fix="right would be 24")


class Flipbook:
    """The folder of a flipbook. Until `finish` it has no manifest, and counts as none."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    @property
    def film(self) -> Film:
        """What it is of. Raises FileError where there is none."""
        path = self.folder / MANIFEST
        begun = self.folder / f".{MANIFEST}"
        for place in (path, begun):
            if place.is_file():
                return _film_of(place)
        raise FileError("is no flipbook", where=str(self.folder))

    @property
    def done(self) -> bool:
        """Whether all of it is there."""
        return (self.folder / MANIFEST).is_file()

    def begin(self, film: Film) -> None:
        """Make the folder, which must be new. Raises FileError."""
        film.check()
        try:
            self.folder.mkdir(parents=True)
        except FileExistsError:
            raise FileError("is there already", where=str(self.folder), fix="name a new folder") from None
        (self.folder / f".{MANIFEST}").write_text(self._text(film))

    @property
    def frames(self) -> list[int]:
        """Frames that have a picture."""
        film = self.film
        return [f for f in range(film.first, film.last + 1) if self.picture(f).is_file()]

    def picture(self, frame: int) -> Path:
        """The path of a frame's PNG."""
        return self.folder / f"flipbook.{frame:04d}.png"

    def put(self, frame: int, data: bytes) -> None:
        """Keep the picture of a frame, a PNG of the film's size. Raises FileError for another size or frame, or what
        is no PNG."""
        film = self.film
        where = f"frame {frame}"
        if self.done:
            raise FileError("is finished", where=str(self.folder), fix="begin another")
        if not film.first <= frame <= film.last:
            raise FileError("is not in it", where=where, fix=f"{film.first} to {film.last} are")
        if len(data) > MOST_BYTES:
            raise FileError("is too large for a picture", where=where)
        size = _size_of(data)
        if size != (film.width, film.height):
            told = f"{size[0]} × {size[1]} pixels" if size else "no PNG"
            raise FileError(f"is {told}", where=where, fix=f"a PNG of {film.width} × {film.height} pixels")
        with written_whole(self.picture(frame)) as file:
            file.write(data)

    def check(self) -> None:
        """Whether a film can be made of it. Raises FileError where a picture is missing."""
        film = self.film
        missing = next((f for f in range(film.first, film.last + 1) if not self.picture(f).is_file()), None)
        if missing is not None:
            raise FileError(f"has no picture of frame {missing}", where=str(self.folder))

    def finish(self, report: Callable[[int, int], None] | None = None, cancel: Cancel | None = None) -> None:
        """Make the film of all pictures, and say that it is done. Raises FileError where a picture is missing,
        Cancelled."""
        film = self.film
        frames = range(film.first, film.last + 1)
        self.check()

        def pictures() -> Iterator[NDArray[np.uint8]]:
            for n, frame in enumerate(frames):
                if cancel is not None and cancel():
                    raise Cancelled
                with Image.open(self.picture(frame)) as picture:
                    yield np.asarray(picture.convert("RGB"))
                if report is not None:
                    report(n + 1, len(frames))

        write_movie(self.folder / MOVIE, pictures(), film.fps)
        begun = self.folder / f".{MANIFEST}"
        with written_whole(begun) as file:
            file.write(self._text(film).encode())
        (self.folder / ORDER).unlink(missing_ok=True)
        begun.replace(self.folder / MANIFEST)  # done, in one move

    def files(self) -> list[str]:
        """Names of what belongs to a flipbook that is done. Raises FileError."""
        if not self.done:
            raise FileError("is no flipbook that is done", where=str(self.folder))
        film = self.film
        return [MANIFEST, MOVIE, *(self.picture(f).name for f in range(film.first, film.last + 1))]

    @staticmethod
    def _text(film: Film) -> str:
        return json.dumps({"format": FORMAT, "version": 1, **asdict(film)}, indent=1)


def beside(folders: list[Path]) -> list[tuple[str, Path]]:
    """Flipbooks for a delivery: what their files are called in it (by their names and frames), and where they stand.
    Raises FileError for one that is named twice, or not done."""
    found: dict[str, Path] = {}
    for folder in folders:
        if folder in {path.parent for path in found.values()}:
            raise FileError("is named twice", where=folder.name, fix="name each flipbook once")
        files, film = Flipbook(folder).files(), Flipbook(folder).film
        base = re.sub(r"[^A-Za-z0-9_-]+", "_", film.name).strip("_") or "film"
        name = base = f"flipbook/{base}_{film.first}-{film.last}"
        n = 2
        while f"{name}/{MANIFEST}" in found:
            name, n = f"{base}_{n}", n + 1
        found |= {f"{name}/{file}": folder / file for file in files}
    return list(found.items())


def _film_of(place: Path) -> Film:
    """What a manifest says. Raises FileError for one that is broken."""
    try:
        said = json.loads(place.read_text())
        film = Film(**{k: v for k, v in said.items() if k not in ("format", "version")})
        sound = all(isinstance(getattr(film, name), int) for name in ("first", "last", "width", "height"))
        if not sound or not isinstance(film.name, str) or not isinstance(film.note, str):
            raise TypeError("numbers of another type")
        film.check()
    except (ValueError, TypeError, AttributeError, RecursionError, GustError) as error:
        raise FileError(f"is broken ({str(error)[:80]})", where=str(place), fix="take the flipbook away") from None
    return film


def _size_of(data: bytes) -> tuple[int, int] | None:
    """Width and height of a PNG that can be read whole; None for what is none. Its head is read before its pixels."""
    try:
        with Image.open(io.BytesIO(data), formats=["PNG"]) as picture:
            size = picture.size
            if max(size) <= SIDES[1]:
                picture.load()
            return size
    except Exception:  # whatever a reader makes of a broken file
        return None
