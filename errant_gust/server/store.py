"""Studies as documents with history: create, save with optimistic locking, undo, redo, files that belong to them."""

import json
import os
import re
import shutil
import tempfile
import uuid
import zipfile
import zlib
from pathlib import Path
from typing import Any

from django.db import transaction
from django.utils import timezone

from errant_gust.core.errors import FileError, GustError, StudyError, nearest
from errant_gust.core.files import volumes
from errant_gust.core.files.place import add_file as put_in
from errant_gust.core.files.place import zip_entry
from errant_gust.core.geometry import curve_files, outlines
from errant_gust.core.geometry.mesh import FORMATS, MAX_BYTES, MeshReport, read_mesh
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.places import home
from errant_gust.core.study import document
from errant_gust.server.models import Revision, Study

UPLOAD = ".upload-"
DEMO = Path(__file__).resolve().parents[2] / "demo"


class Conflict(GustError):
    """Somebody else saved in between; carries their document."""

    def __init__(self, theirs: Revision) -> None:
        super().__init__("this study was changed in another window", fix="keep yours, or take theirs")
        self.theirs = theirs


KEY = re.compile(r"[a-z][a-z0-9_]{0,39}")


def folder(key: str) -> Path:
    """Where a study's files are; what is no key is no path."""
    if not KEY.fullmatch(key):
        raise StudyError(f"there is no study '{key[:60]}'")
    return home() / "studies" / key


def assets(key: str) -> Assets:
    return Assets(folder(key) / "assets")


def get(key: str) -> Study:
    folder(key)
    study = Study.objects.select_related("head").filter(key=key, deleted=None).first()
    if study is None:
        raise StudyError(f"there is no study '{key}'")
    return study


def _on(key: str, base: int | None) -> Study:
    """The study to be changed, within a transaction; Conflict if its head is no longer `base` (None: whatever)."""
    get(key)
    study = Study.objects.select_for_update().select_related("head").get(key=key, deleted=None)
    if base is not None and study.head_id != base:
        raise Conflict(study.head)
    return study


def create(data: Any, label: str = "New study") -> Study:
    """Put a document in as a new study with its own key."""
    parsed = document.parse(data)
    with transaction.atomic():
        taken = set(Study.objects.values_list("key", flat=True))
        study = Study.objects.create(key=document.fresh_id(parsed.name, taken), name=parsed.name)
        study.head = Revision.objects.create(study=study, document=document.dump(parsed), label=label)
        study.save()
    return study


def create_demo(name: str) -> Study:
    """A copy of a demo study with its mesh files and its picture."""
    path = DEMO / f"{name}.gust.json"
    if not re.fullmatch(r"[a-z_]{1,40}", name) or not path.is_file():
        raise StudyError(f"there is no demo study '{name}'")
    parsed = document.load(path)
    study = create(document.dump(parsed), "From the demo")
    into = folder(study.key) / "assets"
    into.mkdir(parents=True, exist_ok=True)
    for file in named_files(document.dump(parsed)):
        if (DEMO / file).is_file():
            shutil.copy(DEMO / file, into / file)
    picture = DEMO / f"{name}.png"
    if picture.is_file():
        shutil.copy(picture, folder(study.key) / "picture.png")
    return study


def save(key: str, data: Any, base: int, label: str) -> Study:
    """A new revision on top of `base`; raises Conflict if the head has moved on."""
    parsed = document.parse(data)
    with transaction.atomic():
        study = _on(key, base)
        dumped = document.dump(parsed)
        if dumped != study.head.document:
            study.head = Revision.objects.create(
                study=study, parent=study.head, document=dumped, label=plain_text(label)[:200]
            )
            study.name = parsed.name
            study.save()
    return study


def plain_text(text: str) -> str:
    """Text that the database can keep."""
    return text.encode("utf-8", "replace").decode()


def undo(key: str, base: int | None = None) -> Study:
    with transaction.atomic():
        study = _on(key, base)
        if study.head.parent is not None:
            _move(study, study.head.parent)
    return study


def redo(key: str, base: int | None = None) -> Study:
    with transaction.atomic():
        study = _on(key, base)
        child = study.head.children.order_by("-pk").first()
        if child is not None:
            _move(study, child)
    return study


def restore(key: str, revision: int, base: int | None = None) -> Study:
    """Bring an old revision back as a new one."""
    study = get(key)
    old = Revision.objects.filter(study=study, pk=revision).first()
    if old is None:
        raise StudyError(f"this study has no revision {revision}")
    return save(key, old.document, int(study.head.pk) if base is None else base, f"Restore: {old.label}")


def _move(study: Study, to: Revision) -> None:
    study.head, study.name = to, to.document["name"]
    study.save()


def delete(key: str, base: int | None = None) -> None:
    with transaction.atomic():
        study = _on(key, base)
        study.deleted = timezone.now()
        study.save()


def undelete(key: str) -> Study:
    Study.objects.filter(key=key).update(deleted=None)
    return get(key)


def add_mesh(key: str, name: str, chunks: Any) -> tuple[str, MeshReport]:
    """Keep an uploaded mesh file if it can be read: (name under which it is kept, what was found)."""
    get(key)
    stem, suffix = _plain_name(name, FORMATS, "mesh")
    into = folder(key) / "assets"
    into.mkdir(parents=True, exist_ok=True)
    aside = into / f"{UPLOAD}{uuid.uuid4().hex}{suffix}"
    try:
        _receive(aside, chunks, MAX_BYTES, name)
        report = read_mesh(aside, name=name).report
        kept = _keep(aside, into, stem, suffix)
    finally:
        aside.unlink(missing_ok=True)
    return kept, report


def _plain_name(name: str, suffixes: tuple[str, ...], sort: str) -> tuple[str, str]:
    """Stem and ending of an upload's name, which is never used as a path."""
    plain = Path(name.replace("\\", "/")).name
    if plain != name or plain.startswith(".") or not plain:
        raise FileError(
            f"'{name}' is not a plain file name", where="upload", fix="right would be a name such as tower.obj"
        )
    suffix = Path(plain).suffix.lower()
    if suffix not in suffixes:
        raise FileError(
            f"'{suffix or plain}' is not a {sort} format read here", where=plain, fix=f"use {', '.join(suffixes)}"
        )
    return re.sub(r"[^A-Za-z0-9_-]+", "_", Path(plain).stem)[:60] or sort, suffix


def _receive(aside: Path, chunks: Any, most: int, name: str) -> None:
    size = 0
    with aside.open("wb") as file:
        for chunk in chunks:
            size += len(chunk)
            if size > most:
                raise FileError(f"is larger than {most >> 20} MiB", where=name, fix="reduce it")
            file.write(chunk)


def _keep(aside: Path, into: Path, stem: str, suffix: str) -> str:
    """Give an upload its name; an earlier one is never overwritten."""
    kept, count = f"{stem}{suffix}", 1
    while True:
        try:
            os.link(aside, into / kept)  # fails if the name is taken, also by one that came at the same moment
            return kept
        except FileExistsError:
            count += 1
            kept = f"{stem}_{count}{suffix}"


def sweep_uploads() -> None:
    """Take away what uploads left that a stop of the server cut off."""
    for path in (home() / "studies").glob(f"*/assets/{UPLOAD}*"):
        path.unlink(missing_ok=True)


def demos() -> list[tuple[str, dict[str, Any], str]]:
    """(id, document, how-to text) of every demo study, in order of their names."""
    found = []
    for path in sorted(DEMO.glob("*.gust.json")):
        name = path.name.removesuffix(".gust.json")
        how = DEMO / f"{name}.md"
        found.append((name, document.dump(document.load(path)), how.read_text() if how.is_file() else ""))
    return found


SORTS: dict[str, tuple[tuple[str, ...], int]] = {
    "mesh": (FORMATS, MAX_BYTES),
    "curve": (curve_files.SUFFIXES, curve_files.MOST_BYTES),
    "outline": (outlines.SUFFIXES, 32 << 20),
    "volume": (tuple(volumes.READERS), 2 << 30),
}


def add_file(key: str, name: str, sort: str, chunks: Any) -> tuple[str, str]:
    """Keep an uploaded curve, outline or volume file if it can be read: (its name from now on, what is in it)."""
    get(key)
    if sort not in SORTS:
        raise FileError(f"'{sort}' is no sort of file", where="upload", fix=nearest(sort, SORTS))
    suffixes, most = SORTS[sort]
    stem, suffix = _plain_name(name, suffixes, sort)
    into = folder(key) / "assets"
    into.mkdir(parents=True, exist_ok=True)
    aside = into / f"{UPLOAD}{uuid.uuid4().hex}{suffix}"
    try:
        _receive(aside, chunks, most, name)
        try:
            said = _inspect(aside, sort)
        except FileError as error:
            raise FileError(error.what, where=name, fix=error.fix) from None
        kept = _keep(aside, into, stem, suffix)
    finally:
        aside.unlink(missing_ok=True)
    return kept, said


def _inspect(path: Path, sort: str) -> str:
    """What is in a file, in words; raises if it cannot be used."""
    if sort == "mesh":
        return f"{read_mesh(path).report.triangles:,} triangles"
    if sort == "curve":
        found = curve_files.read_curves(path)
        return f"{_many(len(found), 'curve')}, {sum(len(c) for c in found):,} points"
    if sort == "outline":
        if path.suffix.lower() == ".svg":
            return _many(len(outlines.read_svg(path)), "outline")
        grey = outlines.read_brightness(path)
        return f"{grey.shape[1]} × {grey.shape[0]} pixels"
    grids = volumes.read_volume(path)
    return ", ".join(
        f"{n} ({'vector' if g.is_vector else 'scalar'}, {' × '.join(map(str, g.region.shape))})"
        for n, g in grids.items()
    )


def _many(count: int, what: str) -> str:
    return f"{count:,} {what}" if count == 1 else f"{count:,} {what}s"


def files(key: str) -> list[dict[str, Any]]:
    """Files that belong to a study: name and the sorts that it may be by its ending."""
    place = folder(get(key).key) / "assets"
    names = sorted(p.name for p in place.iterdir() if not p.name.startswith(".")) if place.is_dir() else []
    return [
        {"name": n, "sorts": [s for s, (ends, _) in SORTS.items() if Path(n).suffix.lower() in ends]} for n in names
    ]


def named_files(data: dict[str, Any]) -> set[str]:
    """Every file that a document names in a shape or a step."""
    found = set()
    parts = [*data.get("shapes", []), *(s for lane in data.get("fields", []) for s in lane.get("steps", []))]
    for part in parts:
        file = part.get("params", {}).get("file")
        if isinstance(file, str) and file and Path(file).name == file:
            found.add(file)
    return found


def duplicate(key: str) -> Study:
    """A copy of a study with its files and picture, under a new name."""
    original = get(key)
    study = create({**original.head.document, "name": f"{original.name} copy"[:80]}, f"Copy of {original.name}")
    for name in ("assets", "picture.png"):
        source, target = folder(key) / name, folder(study.key) / name
        if source.is_dir():
            shutil.copytree(source, target, dirs_exist_ok=True)
        elif source.is_file():
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(source, target)
    return study


ARCHIVE_MOST = 1 << 30
DOCUMENT_NAME = "study.gust.json"


def archive(key: str) -> Any:
    """A study with its files as one zip, in a spooled file."""
    study = get(key)
    spool = tempfile.SpooledTemporaryFile(max_size=64 << 20)  # noqa: SIM115  (the response closes it)
    with zipfile.ZipFile(spool, "w", zipfile.ZIP_DEFLATED, compresslevel=4) as zipped:
        zipped.writestr(zip_entry(DOCUMENT_NAME, True), json.dumps(study.head.document, indent=1))
        for file in files(key):
            put_in(zipped, folder(key) / "assets" / file["name"], f"assets/{file['name']}", True)
        picture = folder(key) / "picture.png"
        if picture.is_file():
            put_in(zipped, picture, "picture.png")
    spool.seek(0)
    return spool


def from_archive(source: Any, name: str) -> Study:
    """A new study from a zip made by `archive`; names in it are never paths, and nothing is kept if it is broken."""
    try:
        with zipfile.ZipFile(source) as zipped:
            entries = {i.filename: i for i in zipped.infolist() if not i.is_dir()}
            if DOCUMENT_NAME not in entries:
                raise FileError(f"holds no {DOCUMENT_NAME}", where=name, fix="right would be a zip exported from here")
            if len(zipped.infolist()) > 500 or sum(i.file_size for i in entries.values()) > ARCHIVE_MOST:
                raise FileError("expands to more than 1 GiB or 500 files", where=name)
            if entries[DOCUMENT_NAME].file_size > document.MAX_BYTES:
                raise FileError("the study in it is too large", where=name)
            parsed = document.loads(_read_within(zipped, entries[DOCUMENT_NAME], document.MAX_BYTES), where=name)
            picture = b""
            if "picture.png" in entries and entries["picture.png"].file_size <= MOST_PICTURE:
                picture = _read_within(zipped, entries["picture.png"], MOST_PICTURE)
            known = {end for ends, _ in SORTS.values() for end in ends}
            with tempfile.TemporaryDirectory(dir=_studies()) as aside:
                files = []
                for entry, info in sorted(entries.items()):
                    plain = Path(entry).name
                    fits = Path(plain).suffix.lower() in known and re.fullmatch(r"[A-Za-z0-9_. -]{1,100}", plain)
                    if entry == f"assets/{plain}" and fits and not plain.startswith("."):
                        _expand(zipped, info, Path(aside) / plain)
                        files.append(plain)
                study = create(document.dump(parsed), "Imported")
                into = folder(study.key) / "assets"
                into.mkdir(parents=True, exist_ok=True)
                for plain in files:
                    (Path(aside) / plain).replace(into / plain)
    except (zipfile.BadZipFile, EOFError, RuntimeError, NotImplementedError, zlib.error, OSError) as error:
        raise FileError(f"cannot be read as a zip ({str(error)[:60]})", where=name) from None
    if picture.startswith(b"\x89PNG\r\n\x1a\n"):
        (folder(study.key) / "picture.png").write_bytes(picture)
    return study


MOST_PICTURE = 2 << 20


def _studies() -> Path:
    place = home() / "studies"
    place.mkdir(parents=True, exist_ok=True)
    return place


def _read_within(zipped: zipfile.ZipFile, entry: zipfile.ZipInfo, most: int) -> bytes:
    with zipped.open(entry) as file:
        data = file.read(most + 1)
    if len(data) > most:
        raise FileError(f"'{entry.filename}' in it is too large", where="archive")
    return data


def _expand(zipped: zipfile.ZipFile, entry: zipfile.ZipInfo, to: Path) -> None:
    """An entry into a file, piece by piece, at most as long as it says."""
    with zipped.open(entry) as source, to.open("wb") as file:
        while piece := source.read(1 << 20):
            file.write(piece)
            if file.tell() > entry.file_size:
                raise FileError(f"'{entry.filename[:60]}' is longer than it says", where="archive")


def put_in_demos() -> list[Study]:
    """The demo studies, if there is no study yet."""
    if Study.objects.exists():
        return []
    return [create_demo(path.name.removesuffix(".gust.json")) for path in sorted(DEMO.glob("*.gust.json"))]
