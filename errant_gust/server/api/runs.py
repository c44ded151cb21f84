"""Runs, their frames and their events; baked fields and particles as files."""

import asyncio
import io
import json
import tempfile
import zipfile
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any, Literal

from asgiref.sync import sync_to_async
from django.http import FileResponse, HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from ninja import Router, Schema

from errant_gust.core.errors import FileError
from errant_gust.core.fields.plan import bake as bake_node
from errant_gust.core.files.volumes import writer_for
from errant_gust.core.grids.grid import Grid
from errant_gust.core.runs.drawing import drawing_of
from errant_gust.core.runs.export import export_run
from errant_gust.core.runs.store import RunStore
from errant_gust.server import runs, store
from errant_gust.server.arrays import reply
from errant_gust.server.models import Run
from errant_gust.server.plans import plan_of

router = Router()


class RunOut(Schema):
    identity: str
    study: str
    flow: str
    quality: str
    state: str
    message: str
    last: int
    frames: list[int]
    each: float | None
    left: float | None
    count: int | None


class NewRun(Schema):
    study: str
    flow: str
    quality: Literal["preview", "full"] = "preview"


class Drawn(Schema):
    study: str
    document: dict[str, Any]


class Bake(Schema):
    study: str
    field: str
    region: str
    time: float = 0.0
    format: Literal["vdb", "npz", "vti", "obj", "ply", "stl"] = "vdb"


@router.get("/runs", response=list[RunOut])
def list_runs(request: HttpRequest, study: str) -> Any:
    return [runs.describe(run) for run in Run.objects.filter(study_id=study).order_by("-changed")[:60]]


@router.post("/runs", response=RunOut)
def start(request: HttpRequest, body: NewRun) -> Any:
    return runs.describe(runs.start(body.study, body.flow, body.quality))


@router.post("/runs/{identity}/stop", response=RunOut)
def stop(request: HttpRequest, identity: str) -> Any:
    run = runs.get(identity)
    runs.stop(run)
    return runs.describe(run)


@router.get("/runs/{identity}/frames/{frame}")
def frame(request: HttpRequest, identity: str, frame: int) -> HttpResponse:
    """Positions, speeds and ages of a frame as float32."""
    run = runs.get(identity)
    data = RunStore(runs.folder_of(run.identity)).read(frame, ("position", "velocity", "age", "life"))
    response = reply({"frame": frame, "count": len(data["position"])}, data)
    response["Cache-Control"] = "private, max-age=86400"
    return response


@router.post("/runs/{identity}/frames/{frame}/drawn")
def drawn(request: HttpRequest, identity: str, frame: int, body: Drawn) -> HttpResponse:
    """Lines and spread points of a frame, from the drawing steps of the document as it stands."""
    run = runs.get(identity)
    made = drawing_of(RunStore(runs.folder_of(run.identity)), plan_of(body.study, body.document), run.flow, frame)
    arrays: dict[str, Any] = {}
    for name, found in (("lines", made.lines[-1] if made.lines else None), ("spread", made.spread)):
        if found is not None:
            arrays |= {f"{name}.points": found.points, f"{name}.counts": found.counts.astype("i4")}
            arrays |= {f"{name}.{k}": v for k, v in found.channels.items()}
    return reply({"frame": frame, "identity": identity}, arrays)


@router.get("/runs/{identity}/export")
def export(
    request: HttpRequest,
    identity: str,
    format: str = "ply",
    what: Literal["particles", "lines", "spread"] = "particles",
    velocity: Literal["motion", "positions"] = "motion",
) -> HttpResponseBase:
    """All complete frames as one zip with a checksum list; lines as the study draws them now."""
    run = runs.get(identity)
    plan = plan_of(run.study_id, run.study.head.document)
    with tempfile.TemporaryDirectory() as name:
        made = export_run(
            RunStore(runs.folder_of(run.identity)), Path(name) / "out", format=format, what=what, velocity=velocity,
            plan=plan,
        )  # fmt: skip
        spool = tempfile.SpooledTemporaryFile(max_size=64 << 20)  # noqa: SIM115  (FileResponse closes it)
        with zipfile.ZipFile(spool, "w", zipfile.ZIP_STORED) as archive:
            for path, _ in made:
                archive.write(path, path.name)
            archive.writestr("SHA256SUMS", "".join(f"{digest}  {path.name}\n" for path, digest in made))
    spool.seek(0)
    return FileResponse(spool, as_attachment=True, filename=f"{run.study_id}_{run.flow}_{format}.zip")  # type: ignore[arg-type]


@router.post("/bakes")
def bake(request: HttpRequest, body: Bake) -> HttpResponseBase:
    """A field on a region as a file to download."""
    study = store.get(body.study)
    scene = plan_of(body.study, study.head.document).at(body.time)
    node, region = scene.lane(body.field), scene.region(body.region)
    region.check(3 if node.kind == "vector" else 1, f"regions.{body.region}.voxel_size")
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / f"{body.field}.{body.format}"
        writer_for(path)(path, {body.field: Grid(region, bake_node(node, region))})
        data = io.BytesIO(path.read_bytes())
    if data.getbuffer().nbytes == 0:
        raise FileError("nothing was written", where=body.field)
    return FileResponse(data, as_attachment=True, filename=f"{body.field}.{body.format}")


@router.get("/events")
async def events(request: HttpRequest, study: str) -> HttpResponseBase:
    """Server-sent events: the study's runs whenever something about them changes, and the newest revision."""

    def look() -> str:
        found = Run.objects.filter(study_id=study).order_by("-changed")[:8]
        head = store.get(study).head_id
        return json.dumps({"runs": [runs.describe(run) for run in found], "revision": head})

    async def stream() -> AsyncIterator[bytes]:
        last, quiet = "", 0.0
        yield b"retry: 1000\n\n"
        while True:
            now = await sync_to_async(look)()
            if now != last:
                last, quiet = now, 0.0
                yield f"data: {now}\n\n".encode()
            elif quiet > 10:
                quiet = 0.0
                yield b": still here\n\n"
            await asyncio.sleep(0.15)
            quiet += 0.15

    response = StreamingHttpResponse(stream(), content_type="text/event-stream")
    response["Cache-Control"] = "no-cache"
    return response
