"""Studies as documents with history: create, save with optimistic locking, undo, redo."""

from pathlib import Path
from typing import Any

from django.db import transaction
from django.utils import timezone

from errant_gust.core.errors import GustError, StudyError
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.home import home
from errant_gust.core.study import document
from errant_gust.server import notices
from errant_gust.server.keys import KEY
from errant_gust.server.models import Revision, Study


class Conflict(GustError):
    """Somebody else saved in between; carries their document."""

    def __init__(self, theirs: Revision) -> None:
        super().__init__("this study was changed in another window", fix="keep yours, or take theirs")
        self.theirs = theirs


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
    notices.changed(key)
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
    notices.changed(study.key)


def delete(key: str, base: int | None = None) -> None:
    with transaction.atomic():
        study = _on(key, base)
        study.deleted = timezone.now()
        study.save()


def undelete(key: str) -> Study:
    Study.objects.filter(key=key).update(deleted=None)
    return get(key)


def set_aside(key: str, data: Any, base: int, label: str) -> Revision:
    """Keep a document that was given up for another as a revision of the history: nobody's head, and no step of undo
    or redo leads to it."""
    study = get(key)
    parsed = document.parse(data)
    text = f"Set aside: {plain_text(label)}"[:200]
    return Revision.objects.create(study=study, parent=None, document=document.dump(parsed), label=text)
