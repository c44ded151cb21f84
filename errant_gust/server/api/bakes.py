"""Fields on a region, and shapes, as files."""

import io
import tempfile
from pathlib import Path
from typing import Literal

from django.http import FileResponse, HttpRequest
from django.http.response import HttpResponseBase
from ninja import Router, Schema

from errant_gust.core.errors import FileError
from errant_gust.core.fields.look import unit_of
from errant_gust.core.fields.sampling import bake as bake_node
from errant_gust.core.files.volume_files import writer_for
from errant_gust.core.grids.grid import Grid
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
    ending = ENDINGS.get(body.format, body.format)
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / f"{body.shape}.{ending}"
        write_shape(shape, path, body.format)
        data = io.BytesIO(path.read_bytes())
    return FileResponse(data, as_attachment=True, filename=f"{body.shape}.{ending}")
