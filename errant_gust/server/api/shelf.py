"""Runs on the shelf: all of them, what they changed, and what is done with them."""

from datetime import datetime
from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field as Bound

from errant_gust.server import runs, shelf
from errant_gust.server.api.schemas import RunOut
from errant_gust.server.api.studies import StudyOut, out

router = Router()


class ShelfRun(RunOut):
    pinned: bool
    study_name: str
    created: datetime
    against: str
    """The run before it, that `changes` are told against."""
    changes: list[str]
    same: bool


class Shelf(Schema):
    runs: list[ShelfRun]
    total: int
    study_name: str
    used: int
    budget: int
    free: int
    warning: str
    cluster: str
    """Address of the scheduler that runs go to; empty where they are computed here."""


class Told(Schema):
    name: str | None = Bound(None, max_length=200)
    pinned: bool | None = None


class Further(Schema):
    last: int | None = Bound(None, ge=-100_000, le=1_000_000)


class Which(Schema):
    runs: list[str] = Bound(max_length=10_000)


class ChangeOut(Schema):
    where: str
    place: str
    what: str


class Freed(Schema):
    bytes: int


@router.get("/shelf", response=Shelf)
def all_runs(request: HttpRequest, study: str = "", most: int = shelf.MOST) -> Any:
    """The newest runs of a study, or of all: so many of them."""
    return shelf.shelf(study, max(1, min(most, 20_000)))


@router.get("/shelf/free", response=list[ShelfRun])
def to_free(request: HttpRequest, study: str = "") -> Any:
    """What `free` would take."""
    return [shelf.describe(run) for run in shelf.to_free(study)]


@router.post("/shelf/free", response=Freed)
def free(request: HttpRequest, body: Which) -> Any:
    return {"bytes": shelf.free(body.runs)}


@router.patch("/runs/{identity}", response=ShelfRun)
def tell(request: HttpRequest, identity: str, body: Told) -> Any:
    """Name or pin a run."""
    return shelf.describe(shelf.change(identity, body.name, body.pinned))


@router.delete("/runs/{identity}", response=None)
def delete(request: HttpRequest, identity: str) -> None:
    shelf.discard(identity)


@router.post("/runs/{identity}/undelete", response=ShelfRun)
def undelete(request: HttpRequest, identity: str) -> Any:
    return shelf.describe(shelf.bring_back(identity))


@router.post("/runs/{identity}/continue", response=RunOut)
def proceed(request: HttpRequest, identity: str, body: Further) -> Any:
    """Go on with a run as it was begun, whatever the study is now; to a later frame if one is named."""
    return runs.describe(runs.proceed(runs.get(identity), body.last))


@router.post("/runs/{identity}/put-back", response=StudyOut)
def put_back(request: HttpRequest, identity: str, base: int | None = None) -> Any:
    """Make the version that the run was made of that of its study; undo takes it back."""
    return out(shelf.put_back(identity, base))


@router.get("/runs/{identity}/changes", response=list[ChangeOut])
def changes(request: HttpRequest, identity: str, against: str) -> Any:
    return [{"where": c.where, "place": c.place, "what": c.what} for c in shelf.between(against, identity)]


@router.get("/runs/{identity}/picture")
def picture(request: HttpRequest, identity: str, frame: int | None = None, wide: int = 160) -> HttpResponse:
    """A small picture of a frame, from the front."""
    width = max(16, min(640, wide))
    response = HttpResponse(shelf.picture(identity, frame, width, round(width * 0.625)), content_type="image/png")
    response["Cache-Control"] = "private, max-age=30"
    return response
