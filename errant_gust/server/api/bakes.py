"""Fields on a region, and shapes, as files."""

import io
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Literal

from django.http import FileResponse, HttpRequest
from django.http.response import HttpResponseBase
from ninja import Router, Schema

from errant_gust.core.errors import FileError
from errant_gust.core.fields.look import unit_of
from errant_gust.core.files.volume_files import writer_for
from errant_gust.core.grids.grid import Grid
from errant_gust.core.runs.baking import bake_field
from errant_gust.core.runs.export import ENDINGS
from errant_gust.core.runs.shape_files import write_shape
from errant_gust.server import revisions
from errant_gust.server.plans import plan_of

router = Router()


class Bake(Schema):
    study: str
    field: str
    region: str
    time: float = 0.0
    format: Literal["vdb", "npz", "vti", "obj", "ply", "stl"] = "vdb"


@router.post("/bakes")
def bake(request: HttpRequest, body: Bake) -> HttpResponseBase:
    """A field on a region as a file to download."""
    study = revisions.get(body.study)
    plan = plan_of(body.study, study.head.document)
    scene = plan.at(body.time)
    made = bake_field(plan, body.field, body.region, body.time)
    grids = {body.field: Grid(scene.region(body.region), made, unit=unit_of(scene.lane(body.field)))}
    return _sent(f"{body.field}.{body.format}", lambda path: writer_for(path)(path, grids))


def _sent(name: str, write: Callable[[Path], None]) -> FileResponse:
    """What is written into a file, to download under that name."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        write(path)
        data = io.BytesIO(path.read_bytes())
    if data.getbuffer().nbytes == 0:
        raise FileError("nothing was written", where=name)
    return FileResponse(data, as_attachment=True, filename=name)


class ShapeFile(Schema):
    study: str
    shape: str
    time: float = 0.0
    format: Literal["obj", "ply", "stl", "usd", "npz", "vdb"] = "obj"


@router.post("/shape-files")
def shape_file(request: HttpRequest, body: ShapeFile) -> HttpResponseBase:
    """A shape at a time as a file to download: triangles, or a level set."""
    study = revisions.get(body.study)
    shape = plan_of(body.study, study.head.document).at(body.time).shape(body.shape)
    name = f"{body.shape}.{ENDINGS.get(body.format, body.format)}"
    return _sent(name, lambda path: write_shape(shape, path, body.format))
