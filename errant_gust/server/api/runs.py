"""Runs, their frames and their events; baked fields and particles as files."""

import asyncio
import io
import json
import tempfile
import zipfile
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any, Literal

import numpy as np
from asgiref.sync import sync_to_async
from django.http import FileResponse, HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from ninja import Router, Schema

from errant_gust.core.errors import FileError
from errant_gust.core.fields.look import unit_of
from errant_gust.core.fields.plan import bake as bake_node
from errant_gust.core.files.place import add_file, zip_entry
from errant_gust.core.files.volumes import writer_for
from errant_gust.core.flows.particles.instances import MOST_TRIANGLES
from errant_gust.core.flows.particles.state import BASE, KEPT
from errant_gust.core.flows.random import uniform
from errant_gust.core.grids.grid import Grid
from errant_gust.core.runs.drawing import drawing_of
from errant_gust.core.runs.export import What, export_run
from errant_gust.core.runs.store import RunStore
from errant_gust.server import runs, store
from errant_gust.server.arrays import reply
from errant_gust.server.models import Run
from errant_gust.server.plans import plan_of

router = Router()


class RunOut(Schema):
    identity: str
    kind: str
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


def tone_of(data: dict[str, Any], colour: str) -> tuple[Any, str]:
    """The values (n,) of the channel that colours, and their unit."""
    v = data["velocity"]
    made: dict[str, tuple[Any, str]] = {
        "speed": (np.linalg.norm(v, axis=1), "m/s"),
        "climb": (v[:, 2], "m/s"),
        "direction": (np.degrees(np.arctan2(v[:, 1], v[:, 0])), "°"),
        "age": (data["age"], "s"),
        "share": (data["age"] / data["life"], "of life"),
        "number": (uniform(1, data["id"], 0), ""),
    }
    if "travelled" in data:
        made["travelled"] = (data["travelled"], "m")
    made |= {k: (a, "") for k, a in data.items() if a.ndim == 1 and k not in (*BASE, *KEPT)}
    if colour not in made:
        raise FileError(f"the run has no channel '{colour}'", where="colour", fix=f"one of: {', '.join(made)}")
    return made[colour]


class Drawn(Schema):
    study: str
    document: dict[str, Any]
    have: list[str] = []


class Bake(Schema):
    study: str
    field: str
    region: str
    time: float = 0.0
    format: Literal["vdb", "npz", "vti", "obj", "ply", "stl"] = "vdb"


@router.get("/runs", response=list[RunOut])
def list_runs(request: HttpRequest, study: str) -> Any:
    return [runs.describe(run) for run in Run.objects.filter(asked=study).order_by("-changed")[:60]]


@router.post("/runs", response=RunOut)
def start(request: HttpRequest, body: NewRun) -> Any:
    return runs.describe(runs.start(body.study, body.flow, body.quality))


@router.post("/runs/{identity}/stop", response=RunOut)
def stop(request: HttpRequest, identity: str) -> Any:
    run = runs.get(identity)
    runs.stop(run)
    return runs.describe(run)


@router.get("/runs/{identity}/frames/{frame}")
def frame(request: HttpRequest, identity: str, frame: int, colour: str = "speed") -> HttpResponse:
    """A frame to look at, 8 bytes a particle: positions as 16 bits in their box, the channel that colours in 8 bits
    between `low` and `high`, and how much is left of each life."""
    run = runs.get(identity)
    data = RunStore(runs.folder_of(run.identity)).read(frame)
    position, count = data["position"], len(data["position"])
    values, unit = tone_of(data, colour)
    finite = (float(values.min()), float(values.max())) if count else (0.0, 1.0)
    low, high = finite if finite[1] > finite[0] else (finite[0], finite[0] + 1)
    lower, upper = (position.min(axis=0), position.max(axis=0)) if count else (np.zeros(3), np.ones(3))
    size = np.maximum(upper - lower, 1e-9)
    left = 1 - data["age"] / data["life"]
    arrays = {
        "position": np.rint((position - lower) / size * 65535).astype(np.uint16),
        "tone": np.rint((values - low) / (high - low) * 255).astype(np.uint8),
        "left": np.rint(np.clip(left, 0, 1) * 255).astype(np.uint8),
    }
    facts = {
        "frame": frame, "count": count, "lower": lower.tolist(), "upper": (lower + size).tolist(),
        "low": low, "high": high, "unit": unit, "colour": colour,
    }  # fmt: skip
    response = reply(facts, arrays)
    response["Cache-Control"] = "private, max-age=86400"
    return response


@router.post("/runs/{identity}/frames/{frame}/drawn")
def drawn(request: HttpRequest, identity: str, frame: int, body: Drawn) -> HttpResponse:
    """Lines, spread points and instances of a frame, from the drawing steps of the document as it stands.

    `have`: keys of instanced meshes that need not be sent again.
    """
    run = runs.get(identity)
    frames = RunStore(runs.folder_of(run.identity))
    made = drawing_of(frames, plan_of(body.study, body.document), run.flow, frame)
    arrays: dict[str, Any] = {}
    for name, found in (("lines", made.lines[-1] if made.lines else None), ("spread", made.spread)):
        if found is not None:
            arrays |= {f"{name}.points": found.points, f"{name}.counts": found.counts.astype("i4")}
            arrays |= {f"{name}.{k}": v for k, v in found.channels.items()}
    facts: dict[str, Any] = {"frame": frame, "identity": identity, "prototypes": [], "triangles": 0}
    i = made.instanced
    if i is not None:
        seen = i.to_look_at(MOST_TRIANGLES)
        keys = [p.key for p in seen]
        facts |= {"prototypes": keys, "triangles": i.triangles(seen), "most": 10 * MOST_TRIANGLES, "on": i.on}
        tone = i.channels.get("speed", np.zeros(len(i.points), np.float32))
        if "row" in i.channels:
            colour = body.document.get("looks", {}).get(run.flow, {}).get("colour", "speed")
            tone = tone_of(frames.read(frame), colour)[0][i.channels["row"]]
        arrays |= {"instances.points": i.points, "instances.turns": i.turns, "instances.sizes": i.sizes}
        arrays |= {"instances.which": i.which, "instances.tone": np.ascontiguousarray(tone, np.float32)}
        for prototype, key in zip(seen, keys, strict=True):
            if key not in body.have:
                arrays |= {f"{key}.vertices": prototype.vertices, f"{key}.faces": prototype.faces}
    return reply(facts, arrays)


@router.get("/runs/{identity}/export")
def export(
    request: HttpRequest,
    identity: str,
    format: str = "",
    what: What = "particles",
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
                add_file(archive, path, path.name)
            archive.writestr(zip_entry("SHA256SUMS"), "".join(f"{digest}  {path.name}\n" for path, digest in made))
    spool.seek(0)
    return FileResponse(spool, as_attachment=True, filename=f"{run.study_id}_{run.flow}.zip")  # type: ignore[arg-type]


@router.post("/bakes")
def bake(request: HttpRequest, body: Bake) -> HttpResponseBase:
    """A field on a region as a file to download."""
    study = store.get(body.study)
    scene = plan_of(body.study, study.head.document).at(body.time)
    node, region = scene.lane(body.field), scene.region(body.region)
    region.check(3 if node.kind == "vector" else 1, f"regions.{body.region}.voxel_size")
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / f"{body.field}.{body.format}"
        writer_for(path)(path, {body.field: Grid(region, bake_node(node, region), unit=unit_of(node))})
        data = io.BytesIO(path.read_bytes())
    if data.getbuffer().nbytes == 0:
        raise FileError("nothing was written", where=body.field)
    return FileResponse(data, as_attachment=True, filename=f"{body.field}.{body.format}")


@router.get("/events")
async def events(request: HttpRequest, study: str) -> HttpResponseBase:
    """Server-sent events: the study's runs whenever something about them changes, and the newest revision."""

    def look() -> str:
        found = Run.objects.filter(asked=study).order_by("-changed")[:24]
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
