"""Hand over: what there is to give, what would be written, written, proved."""

from datetime import datetime
from typing import Any, Literal

from django.http import HttpRequest, StreamingHttpResponse
from ninja import Router, Schema
from pydantic import Field as Bound

from errant_gust.core.runs import engine
from errant_gust.core.runs.delivery.order import PATTERN, Options, Order
from errant_gust.server import deliveries, flipbooks
from errant_gust.server.api.flipbooks import FlipbookOut
from errant_gust.server.api.sending import zip_of

router = Router()


class Offered(Schema):
    run: str
    flow: str
    name: str
    quality: str
    state: str
    first: int
    last: int
    count: int
    result: str
    label: str
    formats: list[str]
    channels: list[str]
    created: datetime


class ThingOut(Schema):
    """A field on regions, or a shape, of the study as it stands."""

    id: str
    name: str
    sort: Literal["field", "shape"]
    regions: list[str]
    words: str
    still: bool
    first: int
    last: int
    formats: list[str]


class Made(Schema):
    to: str
    files: int
    bytes: int
    words: str


class FaultOut(Schema):
    name: str
    what: str


class GoingOut(Schema):
    id: str
    to: str
    state: str
    done: int
    total: int
    message: str
    left: float | None
    what: str
    cluster: str
    faults: list[FaultOut] | None


class HandOver(Schema):
    roots: list[str]
    cluster: str
    offered: list[Offered]
    things: list[ThingOut]
    going: list[GoingOut]
    cameras: list[str]
    goes: bool
    flipbooks: list[FlipbookOut]
    made: list[Made]


class ItemIn(Schema):
    """Without a run: a shape of the study, or a field on a region (`wind@quay`)."""

    run: str = ""
    result: str = ""
    format: str = ""
    channels: list[str] = Bound([], max_length=100)


class OptionsIn(Schema):
    first: int | None = None
    last: int | None = None
    step: int = 1
    number: int | None = None
    pattern: str = Bound(PATTERN, max_length=200)
    padding: int = 4
    up: Literal["Z", "Y"] = "Z"
    unit: Literal["m", "dm", "cm", "mm"] = "m"
    per: Literal["second", "frame"] = "second"
    velocity: Literal["motion", "positions"] = "motion"
    half: bool = False
    compression: Literal["blosc", "zip", "none"] = "blosc"
    stage: bool = True


class OrderIn(Schema):
    study: str = ""
    items: list[ItemIn] = Bound(max_length=64)
    flipbooks: list[str] = Bound([], max_length=64)
    options: OptionsIn
    root: str
    name: str
    place: deliveries.Place = "cluster"

    def order(self) -> Order:
        items = [(i.run, i.result, i.format, tuple(i.channels)) for i in self.items]
        cameras = deliveries.cameras_of(self.study) if self.options.stage and self.study else ()
        return deliveries.order_of(
            items, Options(**self.options.model_dump(), cameras=cameras), self.study, self.flipbooks
        )


class Plan(Schema):
    files: list[str]
    stages: list[str]
    count: int
    bytes: int
    free: int
    problem: str
    readers: dict[str, str]


class Proof(Schema):
    to: str


@router.get("/hand-over", response=HandOver)
def there_is(request: HttpRequest, study: str) -> Any:
    """What the runs of a study have to give, where it may go, what goes on and what stands."""
    cameras = deliveries.cameras_of(study)
    return {
        "roots": [str(r) for r in deliveries.roots()], "cluster": engine.scheduler(),
        "offered": deliveries.offered(study),
        "things": deliveries.things_of(study),
        "going": deliveries.all_going(), "made": deliveries.made(),
        "flipbooks": flipbooks.of(study),
        "cameras": [v["name"] for v in cameras], "goes": any(v.get("frame") is not None for v in cameras),
    }  # fmt: skip


@router.post("/hand-over/plan", response=Plan)
def plan(request: HttpRequest, body: OrderIn) -> Any:
    """What would be written; nothing is."""
    return deliveries.planned(body.order(), deliveries.target(body.root, body.name))


@router.post("/hand-over", response=GoingOut)
def start(request: HttpRequest, body: OrderIn) -> Any:
    return deliveries.start(body.order(), deliveries.target(body.root, body.name), body.place).as_dict()


@router.post("/hand-over/prove", response=GoingOut)
def prove(request: HttpRequest, body: Proof) -> Any:
    """Read a delivery back; what is not as it was delivered is told at the end."""
    return deliveries.prove(body.to).as_dict()


@router.get("/hand-over/download")
def download(request: HttpRequest, to: str) -> StreamingHttpResponse:
    """A delivery as one zip, as it is read: the first piece is sent at once."""
    folder, files = deliveries.all_files(to)
    return zip_of(folder, files, f"{folder.name}.zip")


@router.post("/hand-over/{id}/stop", response=GoingOut)
def stop(request: HttpRequest, id: str) -> Any:
    return deliveries.stop(id).as_dict()
