"""Runs and their events, and one road to frames: `/runs/{id}/frames/{n}/{result}`."""

import time
from dataclasses import asdict
from typing import Any, Literal

from django.http import FileResponse, HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from ninja import Router, Schema

from errant_gust.core.errors import Cancelled, FileError
from errant_gust.core.files.zips import zip_made_by
from errant_gust.core.looking.compared import compared_to_look
from errant_gust.core.looking.drawn import drawn_to_look
from errant_gust.core.looking.frames import frame_to_look, head_of
from errant_gust.core.pictures.light import LightLook, toward
from errant_gust.core.runs.compare import channel_of, numbers_of, plain_numbers
from errant_gust.core.runs.export import Velocity, export_run, kind_of_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.halving import halved_run
from errant_gust.core.runs.job import log_of
from errant_gust.core.wanted import while_wanted
from errant_gust.server import runs
from errant_gust.server.api.schemas import HalvedOut, NumbersOut, RunOut
from errant_gust.server.api.turns import READS, TooLong
from errant_gust.server.arrays import reply
from errant_gust.server.clients import gone_of
from errant_gust.server.line import LONGEST, line
from errant_gust.server.models import Run
from errant_gust.server.plans import plan_of

BY_DEFAULT = LightLook()
router = Router()
DRAWN = "drawn"


class NewRun(Schema):
    study: str
    flow: str
    quality: Literal["preview", "full"] = "preview"


class Place(Schema):
    place: str


class Drawn(Schema):
    study: str
    document: dict[str, Any]
    have: list[str] = []


def store_of(identity: str) -> RunStore:
    return RunStore(runs.folder_of(runs.get(identity).identity))


@router.get("/runs", response=list[RunOut])
def list_runs(request: HttpRequest, study: str) -> Any:
    return [runs.describe(run) for run in Run.objects.filter(asked=study, gone=None).order_by("-changed")[:60]]


@router.post("/runs", response=RunOut)
def start(request: HttpRequest, body: NewRun) -> Any:
    return runs.describe(runs.start(body.study, body.flow, body.quality))


@router.post("/runs/{identity}/stop", response=RunOut)
def stop(request: HttpRequest, identity: str) -> Any:
    run = runs.get(identity)
    runs.stop(run)
    return runs.describe(run)


@router.post("/runs/{identity}/mend", response=RunOut)
def mend(request: HttpRequest, identity: str) -> Any:
    """Have every frame read by its sums; what is damaged is computed again. The run's log tells which."""
    return runs.describe(runs.mend(runs.get(identity)))


@router.post("/runs/{identity}/move", response=RunOut)
def move(request: HttpRequest, identity: str, body: Place) -> Any:
    """Go on elsewhere: here, or on the cluster."""
    return runs.describe(runs.move(runs.get(identity), body.place))


@router.get("/runs/{identity}/log", response=list[str])
def log(request: HttpRequest, identity: str) -> Any:
    """What happened to a run, the last lines: when, where, what."""
    return log_of(store_of(identity).folder)


@router.get("/runs/{identity}/halves/{frame}", response=list[HalvedOut])
def halves(request: HttpRequest, identity: str, frame: int) -> Any:
    """What half steps would change on the way from a frame to the next; nothing where nothing lasts so long. But for
    particles the frame is computed anew, twice."""
    store = store_of(identity)
    gone, end = gone_of(request), time.monotonic() + LONGEST

    def unwanted() -> bool:
        return gone() or time.monotonic() > end

    try:
        with line.place(READS, "halves", unwanted) as place, while_wanted(unwanted, place.aside):
            made = halved_run(store, frame, unwanted)
    except Cancelled:
        if gone():
            raise
        raise TooLong(
            f"half steps of this frame take longer than {LONGEST:.0f} s", where=f"frames.{frame}",
            fix=f"`gust halves RUN_DIR --frame {frame}` takes the time that it needs, or try a preview",
        ) from None  # fmt: skip
    return [{**asdict(h), "share": h.share} for h in made]


@router.get("/runs/{identity}/frames/{frame}/{result}")
def frame(
    request: HttpRequest, identity: str, frame: int, result: str, channel: str = "", absorb: float = 12.0,
    azimuth: float = BY_DEFAULT.azimuth, height: float = BY_DEFAULT.height,
) -> HttpResponse:  # fmt: skip
    """A result that frames hold, made small to look at, by its form (see `looking.heads`). `channel` colours it;
    `absorb`: of a volume, how much of the light density 1 takes in a metre; `azimuth`, `height`: where that light
    comes from, in degrees."""
    store = store_of(identity)
    found = kind_of_run(store).result(result)
    if found.from_study:
        raise FileError(f"{found.label} are drawn from the study: send it", where="result", fix="POST the document")
    head, arrays = frame_to_look(store, frame, found, channel, absorb, toward(azimuth, height))
    response = reply(head_of(head), arrays)
    response["Cache-Control"] = "private, max-age=86400"
    return response


@router.post("/runs/{identity}/frames/{frame}/{result}")
def drawn(request: HttpRequest, identity: str, frame: int, result: str, body: Drawn) -> HttpResponse:
    """All that the lane draws from a frame, by the document as it stands; `result` is `drawn`.

    `have`: keys of instanced meshes that need not be sent again.
    """
    if result != DRAWN:
        raise FileError(f"'{result}' takes no document", where="result", fix=f"right would be {DRAWN}")
    store, run = store_of(identity), runs.get(identity)
    colour = str(body.document.get("looks", {}).get(run.flow, {}).get("colour", ""))
    head, arrays = drawn_to_look(store, plan_of(body.study, body.document), run.flow, frame, colour, body.have)
    return reply(head_of(head), arrays)


@router.get("/runs/{identity}/frames/{frame}/{result}/numbers", response=NumbersOut)
def numbers(request: HttpRequest, identity: str, frame: int, result: str, channel: str = "") -> Any:
    """What a channel of a result comes to: of a volume over its voxels, of points and vertices over them."""
    store = store_of(identity)
    found = kind_of_run(store).result(result)
    if found.form == "volume":
        made = asdict(numbers_of(channel_of(store, frame, channel)))
        return {**made, "count": made.pop("voxels")}
    return asdict(plain_numbers(found.read(store, frame), channel))


@router.get("/compare")
def compare(request: HttpRequest, a: str, b: str, frame: int, of: str = "", to: str = "") -> HttpResponse:
    """b − a on a frame: of volumes as texels of the channel `of` of a and `to` of b (the same if it is not named), and
    numbers; of points numbers only."""
    head, arrays = compared_to_look(store_of(a), store_of(b), frame, of, to)
    return reply(head_of(head), arrays)


@router.get("/runs/{identity}/export")
def export(
    request: HttpRequest, identity: str, format: str = "", what: str = "", velocity: Velocity = "motion"
) -> HttpResponseBase:
    """All complete frames of a result, as far as the study's clock goes, as one zip with a checksum list; what is
    drawn, as the study draws it now."""
    run = runs.get(identity)
    plan = plan_of(run.study_id, run.study.head.document)
    store = RunStore(runs.folder_of(run.identity))
    clock = plan.study.clock
    with runs.read(run.identity):
        spool = zip_made_by(
            lambda to: export_run(
                store, to, frames=(clock.start, clock.end), format=format, what=what, velocity=velocity, plan=plan
            )
        )
    return FileResponse(spool, as_attachment=True, filename=f"{run.study_id}_{run.flow}.zip")  # type: ignore[arg-type]
