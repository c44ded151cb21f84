"""Flipbooks: begun, a picture a frame, made into a film, played, taken along."""

from typing import Any

from django.http import FileResponse, HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from ninja import Router, Schema, Status
from pydantic import Field as Bound

from errant_gust.core.errors import FileError
from errant_gust.core.looking.flipbook import MOVIE, Film
from errant_gust.core.study.viewpoints import camera_path
from errant_gust.server import flipbooks
from errant_gust.server.api.sending import zip_of

router = Router()


class FilmIn(Schema):
    name: str = Bound("", max_length=120)
    first: int
    last: int
    width: int
    height: int
    fps: float
    note: str = Bound("", max_length=400)


class Begun(Schema):
    id: str


class FlipbookOut(FilmIn):
    id: str
    bytes: int
    path: str


class FilmProgress(Schema):
    """How far a film is: pictures in it, of how many, and seconds left; the flipbook when it is done. `going`: somebody
    works at it; `drawing`: its pictures are drawn, its film is not made yet; `notes`: what pictures are without."""

    done: int
    total: int
    left: float | None
    film: FlipbookOut | None
    going: bool
    drawing: bool
    notes: list[str]


class Key(Schema):
    frame: int
    position: tuple[float, float, float]
    target: tuple[float, float, float]
    parallel: bool = False


class DrawnIn(FilmIn):
    runs: list[str] = Bound(max_length=32)
    views: list[Key] = Bound(max_length=1000)
    quality: str = "good"


class Unfinished(FilmIn):
    """One that the core draws, and how many pictures it has."""

    id: str
    drawn: int


class Path(Schema):
    views: list[Key] = Bound(max_length=1000)
    first: int
    last: int


@router.post("/camera-path", response=list[Key])
def camera_goes(request: HttpRequest, body: Path) -> Any:
    """Where the camera is on every frame, through viewpoints that are tied to frames."""
    return camera_path([v.model_dump() for v in body.views], body.first, body.last)


@router.get("/studies/{key}/flipbooks", response=list[FlipbookOut])
def there_are(request: HttpRequest, key: str) -> Any:
    """Flipbooks of a study, the newest first."""
    return flipbooks.of(key)


@router.post("/studies/{key}/flipbooks", response=Begun)
def begin(request: HttpRequest, key: str, body: FilmIn) -> Any:
    return {"id": flipbooks.begin(key, Film(**body.model_dump()))}


@router.get("/studies/{key}/flipbooks-unfinished", response=list[Unfinished])
def unfinished(request: HttpRequest, key: str) -> Any:
    """Flipbooks of a study that are drawn without a screen and not done, the newest first."""
    return flipbooks.unfinished(key)


@router.post("/studies/{key}/flipbooks-drawn", response=Begun)
def draw(request: HttpRequest, key: str, body: DrawnIn) -> Any:
    """Begin to draw a flipbook of runs without a screen, through viewpoints that are tied to frames, or one."""
    said = body.model_dump()
    runs, views, quality = said.pop("runs"), said.pop("views"), said.pop("quality")
    return {"id": flipbooks.draw(key, Film(**said), runs, views, quality)}


@router.post("/studies/{key}/flipbooks/{id}/stop", response=FilmProgress)
def stop(request: HttpRequest, key: str, id: str) -> Any:
    """Draw no more of it; what is drawn stays."""
    return flipbooks.stop(key, id)


@router.post("/studies/{key}/flipbooks/{id}/go-on", response=FilmProgress)
def go_on(request: HttpRequest, key: str, id: str) -> Any:
    """Draw what is not drawn of it."""
    return flipbooks.go_on(key, id)


@router.get("/studies/{key}/flipbooks/{id}/frames/{frame}")
def picture(request: HttpRequest, key: str, id: str, frame: int, save: bool = False) -> HttpResponseBase:
    """The picture of a frame, as soon as it is there."""
    path = flipbooks.get(key, id).picture(frame)
    if not path.is_file():
        raise FileError("is not there", where=f"frame {frame}")
    return FileResponse(
        path.open("rb"), content_type="image/png", as_attachment=save, filename=f"{key}.{frame:04d}.png"
    )


@router.put("/studies/{key}/flipbooks/{id}/frames/{frame}", response={204: None})
def put(request: HttpRequest, key: str, id: str, frame: int) -> Any:
    """The picture of a frame, as a PNG of the size that was said."""
    flipbooks.get(key, id).put(frame, request.body)
    return Status(204, None)


@router.post("/studies/{key}/flipbooks/{id}/finish", response=FilmProgress)
def finish(request: HttpRequest, key: str, id: str) -> Any:
    """Begin to make the film of the pictures."""
    return flipbooks.finish(key, id)


@router.get("/studies/{key}/flipbooks/{id}", response=FilmProgress)
def progress(request: HttpRequest, key: str, id: str) -> Any:
    """How far the film is."""
    return flipbooks.progress(key, id)


@router.delete("/studies/{key}/flipbooks/{id}", response={204: None})
def forget(request: HttpRequest, key: str, id: str) -> Any:
    flipbooks.forget(key, id)
    return Status(204, None)


@router.get("/studies/{key}/flipbooks/{id}/movie")
def movie(request: HttpRequest, key: str, id: str, save: bool = False) -> HttpResponseBase:
    """The film, to be played (by ranges) or saved."""
    made = flipbooks.get(key, id)
    path = made.folder / MOVIE
    if not made.done:
        raise FileError("is not finished", where=id)
    asked = request.headers.get("Range")
    if asked and not save:
        data, low, high, size = flipbooks.part_of(path, asked)
        part = HttpResponse(data, status=206, content_type="video/mp4")
        part["Content-Range"] = f"bytes {low}-{high}/{size}"
        part["Accept-Ranges"] = "bytes"
        return part
    whole = FileResponse(path.open("rb"), content_type="video/mp4", as_attachment=save, filename=f"{key}.mp4")
    whole["Accept-Ranges"] = "bytes"
    return whole


@router.get("/studies/{key}/flipbooks/{id}/zip")
def as_zip(request: HttpRequest, key: str, id: str) -> HttpResponseBase:
    """Pictures and film as one zip."""
    made = flipbooks.get(key, id)
    return zip_of(made.folder, made.files(), f"{key}_flipbook.zip")
