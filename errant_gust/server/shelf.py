"""Runs as things that are kept: named, pinned, told apart, deleted and brought back, and their space freed."""

import os
from datetime import timedelta
from functools import lru_cache
from pathlib import Path
from typing import Any

from django.db.models import Sum
from django.utils import timezone

from errant_gust.core.errors import FileError, StudyError
from errant_gust.core.files.removing import checked, remove
from errant_gust.core.files.room import free_at, has_room, in_words
from errant_gust.core.home import home
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.pictures.taking import as_png
from errant_gust.core.pictures.taking import picture as taken
from errant_gust.core.runs import engine
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study import document
from errant_gust.core.study.changes import Change, changes
from errant_gust.server import notices, revisions, runs
from errant_gust.server.models import Run, Study

KEPT = timedelta(days=1)
"""How long what was deleted can be brought back after a restart of the server."""
NEAR = 0.85
"""Share of the disk budget from which on it is told."""
BUSY = ("running", "waiting")


def store_of(identity: str) -> RunStore:
    return RunStore(runs.folder_of(runs.get(identity).identity))


@lru_cache(maxsize=512)
def _study_of(identity: str) -> document.Study:
    return document.parse(RunStore(runs.folder_of(identity)).manifest()["study"])


def version_of(identity: str) -> document.Study:
    """The study as it was when the run was begun."""
    runs.get(identity)
    return _study_of(identity)


def between(old: str, new: str) -> list[Change]:
    """What the version of one run changed against that of another, as far as its flow depends on it."""
    return changes(version_of(old), version_of(new), runs.get(new).flow)


MOST = 200
"""Runs that are told of at once."""


def shelf(study: str = "", most: int = MOST) -> dict[str, Any]:
    """Runs of a study, or of all, the newest first, and how many there are; the bytes of all, the budget, and a warning
    near it."""
    rows = Run.objects.filter(gone=None, study__deleted=None).select_related("study").order_by("-created")
    mine = rows.filter(asked=study) if study else rows
    before: dict[tuple[str, str], str] = {}
    told: list[dict[str, Any]] = []
    for run in reversed(mine[:most]):
        earlier = before.get((run.study_id, run.flow), "")
        before[run.study_id, run.flow] = run.identity
        told.append(describe(run, earlier))
    named = Study.objects.filter(key=study).values_list("name", flat=True).first() if study else ""
    return {"runs": told[::-1], "total": mine.count(), "study_name": named or study, **space()}


def describe(run: Run, earlier: str = "") -> dict[str, Any]:
    """A run as it stands on the shelf; `earlier`: the one before it."""
    said = runs.describe(run)
    try:
        made = between(earlier, run.identity) if earlier else []
    except FileError:  # its folder has been taken away
        made = []
    first = [c.words for c in made[:6]]
    more = [f"and {len(made) - 6} more"] if len(made) > 6 else []
    return {
        **said, "pinned": run.pinned, "study_name": run.study.name, "created": run.created,
        "against": earlier, "changes": [*first, *more], "same": bool(earlier) and not made,
    }  # fmt: skip


def budget() -> int:
    """Bytes that runs may take: ERRANT_GUST_DISK in GB, else what they have now and four fifths of what is free."""
    chosen = os.environ.get("ERRANT_GUST_DISK", "")
    if chosen:
        try:
            return int(float(chosen) * 1e9)
        except ValueError:
            raise StudyError(
                f"'{chosen}' is no size", where="ERRANT_GUST_DISK", fix="right would be 200, in GB"
            ) from None
    return used() + int(0.8 * free_at(home()))


def used() -> int:
    """Bytes of all runs, as far as they have ended."""
    return int(Run.objects.aggregate(all=Sum("bytes"))["all"] or 0)


def space() -> dict[str, Any]:
    took, limit = used(), budget()
    warning = ""
    if not has_room(home()):
        warning = f"the disk is full: {in_words(free_at(home()))} are free; runs wait until there is room"
    elif took > NEAR * limit:
        warning = f"runs take {took / 1e9:.1f} GB of the {limit / 1e9:.1f} GB that they may; free what is not needed"
    return {"used": took, "budget": limit, "free": free_at(home()), "warning": warning, "cluster": engine.scheduler()}


def change(identity: str, name: str | None, pinned: bool | None) -> Run:
    run = runs.get(identity)
    given: dict[str, Any] = {}
    if name is not None:
        given["name"] = revisions.plain_text(name).strip()[:80]
    if pinned is not None:
        given["pinned"] = pinned
    Run.objects.filter(identity=identity).update(**given)
    run.refresh_from_db()
    notices.changed()
    return run


def discard(identity: str) -> None:
    """Delete a run: it is stopped and no longer shown; `bring_back` undoes that until its space is freed."""
    run = runs.get(identity)
    runs.stop(run)
    Run.objects.filter(identity=identity).update(gone=timezone.now())
    notices.changed()


def bring_back(identity: str) -> Run:
    Run.objects.filter(identity=identity).update(gone=None)
    notices.changed()
    return runs.get(identity)


def put_back(identity: str, base: int | None) -> Study:
    """The version of the study that the run was made of, as an edit of its study."""
    run = runs.get(identity)
    study = revisions.get(run.study_id)
    version = document.dump(version_of(identity))
    called = run.name or f"{run.flow}, {run.quality}"
    kept = {key: study.head.document[key] for key in ("looks", "intended") if key in study.head.document}
    return revisions.save(
        run.study_id, {**version, **kept, "name": study.name}, int(study.head.pk) if base is None else base,
        f"Put back the version of {called}",
    )  # fmt: skip


def to_free(study: str = "") -> list[Run]:
    """Runs whose space would be freed: of a study, or of all and what was deleted; none that is pinned or goes on."""
    rows = Run.objects.filter(pinned=False).exclude(state__in=BUSY).select_related("study")
    return list((rows.filter(study=study) if study else rows).order_by("created"))


def free(identities: list[str]) -> int:
    """Take frames and rows of these runs away, but for pinned ones and those that go on; the bytes that came free."""
    total = 0
    for run in to_free():
        if run.identity not in identities:
            continue
        folder = runs.folder_of(run.identity)
        took = RunStore(folder).bytes() if folder.is_dir() else 0
        aside = folder.with_name(f".{folder.name}.freed")

        def take(folder: Path = folder, aside: Path = aside) -> None:
            if folder.is_dir():
                checked(folder).rename(aside)  # at once gone for everybody, however long its files take

        if not runs.free_frames(run.identity, take):
            continue  # somebody reads it, or began to compute it
        run.delete()
        total += took
        remove(aside, quietly=True)
    _study_of.cache_clear()
    notices.changed()
    return total


def leave(key: str) -> None:
    """A study was deleted: what only it asked for is stopped."""
    for run in Run.objects.filter(asked=key):
        if not run.asked.filter(deleted=None).exists():
            runs.stop(run)


def sweep() -> int:
    """What was deleted a day ago or more is freed, and what an earlier sweep could not finish."""
    for rest in (home() / "runs").glob(".*.freed"):
        remove(rest, quietly=True)
    old = timezone.now() - KEPT
    gone = [r.identity for r in Run.objects.filter(gone__lt=old)]
    orphans = [
        r.identity for r in Run.objects.filter(study__deleted__lt=old) if not r.asked.filter(deleted=None).exists()
    ]
    Run.objects.filter(identity__in=[*gone, *orphans]).update(pinned=False)
    return free([*gone, *orphans])


@lru_cache(maxsize=256)
def _picture(folder: str, frame: int, width: int, height: int) -> bytes:
    return as_png(taken(stage_of(folder), frame, (width, height)))


def stage_of(identity: str) -> Stage:
    """A run to be pictured, with the files of the study that asked for it."""
    return Stage(RunStore(runs.folder_of(identity)), revisions.assets(runs.get(identity).study_id))


def picture(identity: str, frame: int | None, width: int = 160, height: int = 100) -> bytes:
    """A PNG of a frame of a run: of the one in the middle if none is named."""
    ready = store_of(identity).frames()
    if not ready:
        raise FileError("has no frame yet", where=identity)
    chosen = ready[int(0.6 * (len(ready) - 1))] if frame is None else frame
    if chosen not in ready:
        raise FileError(f"frame {chosen} is not there", where=identity)
    return _picture(identity, chosen, width, height)
