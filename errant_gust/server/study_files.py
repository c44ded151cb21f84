"""Files that belong to a study: meshes, curves, outlines, volumes; archives of a study with its files; demos."""

import json
import os
import re
import shutil
import tempfile
import uuid
import zipfile
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from django.db import transaction

from errant_gust.core.errors import FileError, StudyError, nearest
from errant_gust.core.files import volume_files
from errant_gust.core.files.packed import check_expands, may_be_packed
from errant_gust.core.files.removing import remove
from errant_gust.core.files.scenes import Kept, keep_scene
from errant_gust.core.files.writing import add_file as put_in
from errant_gust.core.files.writing import folder_aside, take_away_cut_off, zip_entry
from errant_gust.core.geometry import curve_files, outlines
from errant_gust.core.geometry.mesh import FORMATS, MAX_BYTES, MeshReport, read_mesh
from errant_gust.core.geometry.scene_files import SUFFIXES as SCENES
from errant_gust.core.geometry.scene_files import UNITS, SceneFile, missing_of, read_scene, sequence_strangers
from errant_gust.core.home import home, shipped
from errant_gust.core.runs.frame_store import write_atomically
from errant_gust.core.study import document
from errant_gust.core.study.depends import Depends
from errant_gust.server.models import Study
from errant_gust.server.revisions import create, folder, get

UPLOAD = ".upload-"
MOST_OF_A_SEQUENCE = 2 << 30
"""Bytes of all files of an uploaded sequence."""


DEMO = shipped("demo")


def beginning_picture(id: str) -> Path:
    """Where the picture of a beginning lies, if there is one."""
    return DEMO / "beginnings" / f"{id}.png"


def demo_picture(name: str) -> Path:
    """Where the picture of a demo study lies; a StudyError if there is no such study."""
    if not re.fullmatch(r"[a-z_]{1,40}", name) or not (DEMO / f"{name}.gust.json").is_file():
        raise StudyError(f"there is no demo study '{name}'")
    return DEMO / f"{name}.png"


def create_beginning(id: str, made: dict[str, Any]) -> Study:
    """A study that begins as `made` does, with the picture of that beginning until it has one of its own."""
    study = create(made)
    picture = beginning_picture(id)
    if picture.is_file():
        folder(study.key).mkdir(parents=True, exist_ok=True)
        shutil.copy(picture, folder(study.key) / "picture.png")
    return study


def create_demo(name: str) -> Study:
    """A copy of a demo study with its mesh files and its picture."""
    picture = demo_picture(name)
    parsed = document.load(DEMO / f"{name}.gust.json")
    with transaction.atomic():  # it is a study when its files are there, and not before
        study = create(document.dump(parsed), "From the demo")
        into = folder(study.key) / "assets"
        into.mkdir(parents=True, exist_ok=True)
        for file in named_files(parsed):
            if (DEMO / file).is_file():
                shutil.copy(DEMO / file, into / file)
        if picture.is_file():
            shutil.copy(picture, folder(study.key) / "picture.png")
    return study


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


def add_scene(key: str, files: Sequence[tuple[str, Any]], up: str, unit: str) -> tuple[Kept | None, SceneFile]:
    """Keep what an uploaded scene holds: (name, chunks) of one file, or of a mesh file a frame. None in its place if it
    must be asked for its up axis or unit."""
    clock = document.parse(get(key).head.document).clock
    names = ["".join(_plain_name(name, SCENES, "scene")) for name, _ in files]
    twice = next((n for n in names if names.count(n) > 1), "")
    if twice:
        raise FileError("is there twice", where=twice, fix="give each file a name of its own")
    if strangers := sequence_strangers(names):
        raise FileError(
            f"is no frame of the sequence of {names[0]}", where=strangers[0],
            fix="import one scene at a time, or mesh files whose names differ by their numbers only",
        )  # fmt: skip
    into = folder(key) / "assets"
    into.mkdir(parents=True, exist_ok=True)
    aside = into / f"{UPLOAD}{uuid.uuid4().hex}"
    aside.mkdir()
    try:
        room = MAX_BYTES if len(files) == 1 else MOST_OF_A_SEQUENCE
        for name, (told, chunks) in zip(names, files, strict=True):
            room -= _receive(aside / name, chunks, min(room, MAX_BYTES), told)
        scene = read_scene(aside / names[0], clock.fps, clock.start)
    finally:
        shutil.rmtree(aside, ignore_errors=True)
    if missing_of(scene, up, UNITS.get(unit, 0.0)):
        return None, scene
    return keep_scene(scene, into, up=up, metres=UNITS.get(unit, 0.0)), scene


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
    stem = re.sub(r"[^A-Za-z0-9_-]+", "_", Path(plain).stem)
    return (stem if len(stem) <= 60 else stem[:40] + stem[-20:]) or sort, suffix  # a number at its end is kept


def _receive(aside: Path, chunks: Any, most: int, name: str) -> int:
    """Write an upload; its bytes."""
    size = 0
    with aside.open("wb") as file:
        for chunk in chunks:
            size += len(chunk)
            if size > most:
                raise FileError(f"is larger than {most >> 20} MiB", where=name, fix="reduce it")
            file.write(chunk)
    return size


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
        remove(path)
    take_away_cut_off(home() / "studies" / ARCHIVED)


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
    "volume": (tuple(volume_files.READERS), 2 << 30),
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
    grids = volume_files.read_volume(path)
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


def named_files(study: document.Study) -> set[str]:
    """Every file that a study names in a shape or a step."""
    return {f.name for f in Depends(study).everything().files if f.name and Path(f.name).name == f.name}


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
ARCHIVED = "archive"
"""What files of an archive lie beside until all of them are there."""


DOCUMENT_NAME = "study.gust.json"


def archive(key: str) -> Any:
    """A study with its files as one zip, in a spooled file."""
    study = get(key)
    spool = tempfile.SpooledTemporaryFile(max_size=64 << 20)  # noqa: SIM115  (the response closes it)
    with zipfile.ZipFile(spool, "w", zipfile.ZIP_DEFLATED, compresslevel=4) as zipped:
        zipped.writestr(zip_entry(DOCUMENT_NAME, True), json.dumps(study.head.document, indent=1))
        paths = [folder(key) / "assets" / file["name"] for file in files(key)]
        packed = may_be_packed(paths)
        for path in paths:
            put_in(zipped, path, f"assets/{path.name}", path in packed)
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
            check_expands(zipped.infolist(), name, "export it again, or add its large files one by one")
            if entries[DOCUMENT_NAME].file_size > document.MAX_BYTES:
                raise FileError("the study in it is too large", where=name)
            parsed = document.loads(_read_within(zipped, entries[DOCUMENT_NAME], document.MAX_BYTES), where=name)
            picture = b""
            if "picture.png" in entries and entries["picture.png"].file_size <= MOST_PICTURE:
                picture = _read_within(zipped, entries["picture.png"], MOST_PICTURE)
            known = {end for ends, _ in SORTS.values() for end in ends}
            with folder_aside(_studies() / ARCHIVED) as aside:
                files = []
                for entry, info in sorted(entries.items()):
                    plain = Path(entry).name
                    fits = Path(plain).suffix.lower() in known and re.fullmatch(r"[A-Za-z0-9_. -]{1,100}", plain)
                    if entry == f"assets/{plain}" and fits and not plain.startswith("."):
                        _expand(zipped, info, aside / plain)
                        files.append(plain)
                study = create(document.dump(parsed), "Imported")
                into = folder(study.key) / "assets"
                into.mkdir(parents=True, exist_ok=True)
                for plain in files:
                    (aside / plain).replace(into / plain)
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


DEMOS_PUT = "demos.json"
"""In the home folder: names of the demos that were put in once, whatever became of them."""


def put_in_demos() -> list[Study]:
    """The demo studies that were not put in yet, one by one, each whole: a start that was cut off is made good by the
    next. In a home that had studies before this was noted, those that are there count."""
    note = home() / DEMOS_PUT
    names = [path.name.removesuffix(".gust.json") for path in sorted(DEMO.glob("*.gust.json"))]
    try:
        put = set(json.loads(note.read_text()))
    except (OSError, ValueError, TypeError):
        put = set(Study.objects.filter(key__in=names).values_list("key", flat=True))
    made = []
    for name in names:
        if name not in put:
            if not Study.objects.filter(key=name, revisions__label="From the demo").exists():
                made.append(create_demo(name))
            put.add(name)
            write_atomically(note, json.dumps(sorted(put)))
    return made
