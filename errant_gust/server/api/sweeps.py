"""Sweeps: what may vary, what it will cost, begun, seen side by side."""

from datetime import datetime
from typing import Any, Literal

from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field as Bound

from errant_gust.core.pictures.camera import FRONT, View
from errant_gust.server import sweeps
from errant_gust.server.api.shelf import ShelfRun

router = Router()


class VaryIn(Schema):
    path: str = Bound(max_length=300)
    values: str = Bound(max_length=4000)


class NewSweep(Schema):
    study: str
    flow: str
    quality: Literal["preview", "full"] = "preview"
    vary: list[VaryIn] = Bound(max_length=12)
    samples: int = Bound(0, ge=0, le=512)
    seed: int = 1

    def versions(self) -> list[sweeps.Version]:
        varies = sweeps.read([(v.path, v.values) for v in self.vary])
        return sweeps.versions(self.study, self.flow, varies, self.samples, self.seed)


class Variable(Schema):
    path: str
    label: str
    type: str
    unit: str
    now: str
    choices: list[str]


class Forecast(Schema):
    count: int
    labels: list[str]
    memory: int
    seconds: float | None
    disk: int | None
    basis: str


class SweepMade(Schema):
    sweep: str


class SweptRun(ShelfRun):
    values: dict[str, Any]
    readings: dict[str, float] | None


class LaneName(Schema):
    id: str
    name: str


class Sheet(Schema):
    sweep: str
    study: str
    study_name: str
    flow: str
    frame: int | None
    frames: list[int]
    readings: list[str]
    units: dict[str, str]
    lanes: list[LaneName]
    """Lanes of which readings can be asked for."""
    paths: list[str]
    runs: list[SweptRun]


class SweepRow(Schema):
    sweep: str
    flow: str
    count: int
    created: datetime
    words: str


@router.get("/sweeps", response=list[SweepRow])
def of_study(request: HttpRequest, study: str) -> Any:
    return sweeps.of_study(study)


@router.get("/sweeps/parameters", response=list[Variable])
def parameters(request: HttpRequest, study: str, flow: str) -> Any:
    """What a sweep of the flow may vary."""
    return sweeps.parameters(study, flow)


@router.post("/sweeps/forecast", response=Forecast)
def forecast(request: HttpRequest, body: NewSweep) -> Any:
    """What a sweep would be; nothing is begun."""
    return sweeps.forecast(body.study, body.flow, body.quality, body.versions())


@router.post("/sweeps", response=SweepMade)
def start(request: HttpRequest, body: NewSweep) -> Any:
    return {"sweep": sweeps.start(body.study, body.flow, body.quality, body.versions())}


@router.get("/sweeps/{sweep}", response=Sheet)
def sheet(request: HttpRequest, sweep: str, frame: int | None = None, lanes: str = "") -> Any:
    """`lanes`: ids with commas between, whose means where each flow is are told too."""
    wanted = [lane for lane in lanes.split(",") if lane]
    return sweeps.sheet(sweep, frame, tuple(dict.fromkeys(wanted[:12])))


@router.post("/sweeps/{sweep}/again", response=None)
def again(request: HttpRequest, sweep: str) -> None:
    sweeps.again(sweep)


@router.post("/sweeps/{sweep}/stop", response=None)
def stop(request: HttpRequest, sweep: str) -> None:
    sweeps.stop(sweep)


@router.get("/sweeps/{sweep}/picture/{identity}")
def picture(
    request: HttpRequest, sweep: str, identity: str, frame: int, wide: int = 240, azimuth: float = FRONT.azimuth,
    height: float = FRONT.height,
) -> HttpResponse:  # fmt: skip
    """A run on a frame, from where all of the sweep are seen: from `azimuth` degrees round (0 is +x) and `height`
    degrees up."""
    width = max(16, min(640, wide))
    made = sweeps.picture(sweep, identity, frame, (width, round(width * 0.625)), View(azimuth, height))
    response = HttpResponse(made, content_type="image/png")
    response["Cache-Control"] = "private, max-age=30"
    return response
