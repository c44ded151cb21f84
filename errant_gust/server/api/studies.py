"""Studies: list, create, save, undo, history, pictures, mesh files."""

from datetime import datetime
from pathlib import Path
from typing import Any

from django.http import FileResponse, HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from ninja import File, Router, Schema
from ninja.files import UploadedFile

from errant_gust.core.demos.beginnings import BEGINNINGS, about
from errant_gust.core.errors import FileError, StudyError, nearest
from errant_gust.core.files.writing import written_whole
from errant_gust.core.listing import catalogue
from errant_gust.core.study import document
from errant_gust.server import revisions, shelf, study_files
from errant_gust.server.api.schemas import Catalogue
from errant_gust.server.compiling import compiling
from errant_gust.server.models import Study

router = Router()


class StudyCard(Schema):
    key: str
    name: str
    note: str
    changed: datetime
    picture: bool


class CompilingOut(Schema):
    share: float
    """From 0 to 1."""
    left: float | None
    """Seconds, about; null as long as that is not known."""


class StudyOut(Schema):
    key: str
    document: dict[str, Any]
    revision: int
    undo: str | None
    redo: str | None


class NewStudy(Schema):
    start: str = "blank"
    demo: str | None = None
    copy_of: str | None = None
    document: dict[str, Any] | None = None


class Save(Schema):
    document: dict[str, Any]
    base: int
    label: str = "Edit"


class Rev(Schema):
    revision: int
    label: str
    created: datetime
    current: bool
    older: int
    """Revisions that are older than this one."""


class Aside(Schema):
    revision: int


class MeshAdded(Schema):
    file: str
    triangles: int
    watertight: bool
    lower: tuple[float, float, float]
    upper: tuple[float, float, float]
    notes: list[str]


def out(study: Study) -> dict[str, Any]:
    child = study.head.children.order_by("-pk").first()
    return {
        "key": study.key,
        "document": study.head.document,
        "revision": study.head.pk,
        "undo": study.head.label if study.head.parent_id else None,
        "redo": child.label if child else None,
    }


@router.get("/catalogue", response=Catalogue)
def get_catalogue(request: HttpRequest) -> Any:
    return catalogue()


@router.get("/compiling", response=CompilingOut | None)
def compiling_now(request: HttpRequest) -> Any:
    """How far the compiling of kernels is; null once all are there."""
    return compiling.told()


@router.get("/studies", response=list[StudyCard])
def list_studies(request: HttpRequest) -> Any:
    found = Study.objects.filter(deleted=None).select_related("head").order_by("-changed")
    return [
        {
            "key": s.key,
            "name": s.name,
            "note": s.head.document.get("note", ""),
            "changed": s.changed,
            "picture": (revisions.folder(s.key) / "picture.png").is_file(),
        }
        for s in found
    ]


class DemoOut(Schema):
    id: str
    name: str
    note: str
    how: str


@router.get("/demos", response=list[DemoOut])
def list_demos(request: HttpRequest) -> Any:
    """Demo studies that can be taken apart, each with its how-to."""
    return [
        {"id": name, "name": study["name"], "note": study["note"], "how": how}
        for name, study, how in study_files.demos()
    ]


@router.get("/demos/{id}/picture")
def demo_picture(request: HttpRequest, id: str) -> HttpResponse:
    return _png(study_files.demo_picture(id), id)


def _png(found: Path, id: str) -> HttpResponse:
    if not found.is_file():
        raise FileError("there is no picture of it", where=id)
    return HttpResponse(found.read_bytes(), content_type="image/png", headers={"Cache-Control": "max-age=3600"})


class BeginningOut(Schema):
    id: str
    name: str
    about: str
    picture: bool
    document: dict[str, Any]


def beginning(id: str) -> dict[str, Any]:
    if id not in BEGINNINGS:
        raise StudyError(f"there is no beginning '{id}'", where="start", fix=nearest(id, BEGINNINGS))
    return BEGINNINGS[id]()


@router.get("/beginnings", response=list[BeginningOut])
def list_beginnings(request: HttpRequest) -> Any:
    """What a new study may begin with, in the order in which it is offered, each with its document: whoever takes one
    has it at once, and does not write over what was done while it came."""
    return [
        {
            "id": id, "name": make()["name"], "about": about(id),
            "picture": study_files.beginning_picture(id).is_file(), "document": one_beginning(request, id),
        }
        for id, make in BEGINNINGS.items()
    ]  # fmt: skip


@router.get("/beginnings/{id}", response=dict[str, Any])
def one_beginning(request: HttpRequest, id: str) -> Any:
    """The document of a beginning, as it is saved."""
    return document.dump(document.parse(beginning(id)))


@router.get("/beginnings/{id}/picture")
def beginning_picture(request: HttpRequest, id: str) -> HttpResponse:
    beginning(id)
    return _png(study_files.beginning_picture(id), id)


@router.post("/studies", response=StudyOut)
def new_study(request: HttpRequest, body: NewStudy) -> Any:
    if body.demo:
        return out(study_files.create_demo(body.demo))
    if body.copy_of:
        return out(study_files.duplicate(body.copy_of))
    if body.document is not None:
        return out(revisions.create(body.document, "Imported"))
    return out(study_files.create_beginning(body.start, beginning(body.start)))


@router.get("/studies/{key}", response=StudyOut)
def get_study(request: HttpRequest, key: str) -> Any:
    return out(revisions.get(key))


@router.put("/studies/{key}", response=StudyOut)
def save_study(request: HttpRequest, key: str, body: Save) -> Any:
    return out(revisions.save(key, body.document, body.base, body.label))


@router.post("/studies/{key}/undo", response=StudyOut)
def undo(request: HttpRequest, key: str, base: int | None = None) -> Any:
    """`base`: the revision that is gone from; 409 if somebody else saved another since."""
    return out(revisions.undo(key, base))


@router.post("/studies/{key}/redo", response=StudyOut)
def redo(request: HttpRequest, key: str, base: int | None = None) -> Any:
    """`base`: the revision that is gone from; 409 if somebody else saved another since."""
    return out(revisions.redo(key, base))


HISTORY = 200
"""Revisions that are told at once."""


@router.get("/studies/{key}/history", response=list[Rev])
def history(request: HttpRequest, key: str, before: int | None = None) -> Any:
    """The newest HISTORY revisions, or the newest before one of them."""
    study = revisions.get(key)
    found = study.revisions.order_by("-pk")
    found = found if before is None else found.filter(pk__lt=before)
    older = found.count()
    return [
        {"revision": r.pk, "label": r.label, "created": r.created, "current": r.pk == study.head_id, "older": older - n}
        for n, r in enumerate(found[:HISTORY], 1)
    ]


@router.post("/studies/{key}/restore/{revision}", response=StudyOut)
def restore(request: HttpRequest, key: str, revision: int, base: int | None = None) -> Any:
    return out(revisions.restore(key, revision, base))


@router.post("/studies/{key}/aside", response=Aside)
def set_aside(request: HttpRequest, key: str, body: Save) -> Any:
    """Keep a document that is given up for somebody else's: it stays in the history and can be restored."""
    return {"revision": revisions.set_aside(key, body.document, body.base, body.label).pk}


@router.delete("/studies/{key}", response=None)
def delete(request: HttpRequest, key: str, base: int | None = None) -> None:
    revisions.delete(key, base)
    shelf.leave(key)


@router.post("/studies/{key}/undelete", response=StudyOut)
def undelete(request: HttpRequest, key: str) -> Any:
    return out(revisions.undelete(key))


@router.post("/studies/{key}/meshes", response=MeshAdded)
def add_mesh(request: HttpRequest, key: str, name: str, file: File[UploadedFile]) -> Any:
    """Import a mesh file; `name` is its file name (never used as a path)."""
    kept, report = study_files.add_mesh(key, name, file.chunks())
    return {"file": kept, **report.__dict__}


class FileAdded(Schema):
    file: str
    said: str


class StudyFile(Schema):
    name: str
    sorts: list[str]


@router.post("/studies/{key}/files", response=FileAdded)
def add_file(request: HttpRequest, key: str, name: str, sort: str, file: File[UploadedFile]) -> Any:
    """Add a curve, outline or volume file; `name` is its file name (never used as a path)."""
    kept, said = study_files.add_file(key, name, sort, file.chunks())
    return {"file": kept, "said": said}


@router.get("/studies/{key}/files", response=list[StudyFile])
def list_files(request: HttpRequest, key: str) -> Any:
    return study_files.files(key)


@router.get("/studies/{key}/archive")
def archive(request: HttpRequest, key: str) -> HttpResponseBase:
    """The study with its files as one zip."""
    return FileResponse(study_files.archive(key), as_attachment=True, filename=f"{key}.gust.zip")


@router.post("/archives", response=StudyOut)
def from_archive(request: HttpRequest, name: str, file: File[UploadedFile]) -> Any:
    """A new study from such a zip."""
    return out(study_files.from_archive(file.file, name[:80]))


@router.get("/studies/{key}/picture")
def picture(request: HttpRequest, key: str) -> HttpResponseBase:
    path = revisions.folder(revisions.get(key).key) / "picture.png"
    if not path.is_file():
        return HttpResponse(status=404)
    response = FileResponse(path.open("rb"), content_type="image/png")
    response["Cache-Control"] = "no-cache"
    return response


@router.put("/studies/{key}/picture", response=None)
def set_picture(request: HttpRequest, key: str) -> None:
    revisions.get(key)
    data = request.body
    if len(data) > 2 << 20 or not data.startswith(b"\x89PNG\r\n\x1a\n"):
        raise FileError("is not a PNG of at most 2 MiB", where="picture")
    path = revisions.folder(key) / "picture.png"
    path.parent.mkdir(parents=True, exist_ok=True)
    with written_whole(path) as file:
        file.write(data)
