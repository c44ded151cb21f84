"""Old revisions: one a day is enough."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from django.db import transaction
from django.db.models import F, Sum
from django.db.models.functions import Length
from django.utils import timezone

from errant_gust.server.models import Revision, Study

Rows = Sequence[tuple[int, int | None, datetime]]
"""Number, parent and time of revisions, the oldest first."""


@dataclass(frozen=True)
class Thinned:
    """Of all studies: revisions that go, that stay, and the bytes of the documents that go."""

    gone: int
    kept: int
    bytes: int


def thin(days: int, really: bool) -> Thinned:
    """Of revisions older than so many days keep the last of each day, the first of all, and whatever is current. Undo
    then goes from day to day."""
    before = timezone.now() - timedelta(days=days)
    gone = kept = size = 0
    for study in Study.objects.all():
        with transaction.atomic():
            rows = list(Revision.objects.filter(study=study).order_by("pk").values_list("pk", "parent_id", "created"))
            head = Study.objects.select_for_update().get(pk=study.pk).head_id
            stay = _staying(rows, head, before)
            going = [pk for pk, _, _ in rows if pk not in stay]
            gone, kept = gone + len(going), kept + len(stay)
            for start in range(0, len(going), 500):
                part = Revision.objects.filter(pk__in=going[start : start + 500])
                size += part.aggregate(all=Sum(Length(F("document"))))["all"] or 0
            if really and going:
                _take_away(rows, stay)
    return Thinned(gone, kept, size)


def _staying(rows: Rows, head: int | None, before: datetime) -> set[int]:
    last_of: dict[date, int] = {}
    stay = set() if head is None else {head}
    for pk, parent, created in rows:
        if created >= before or parent is None:
            stay.add(pk)
        else:
            last_of[created.date()] = pk
    return stay | set(last_of.values())


def _take_away(rows: Rows, stay: set[int]) -> None:
    """What stays hangs on the nearest of its ancestors that stays."""
    parent_of = {pk: parent for pk, parent, _ in rows}
    for pk, parent, _ in rows:
        if pk not in stay:
            continue
        above = parent
        while above is not None and above not in stay:
            above = parent_of.get(above)
        if above != parent:
            Revision.objects.filter(pk=pk).update(parent=above)
    going = [pk for pk, _, _ in rows if pk not in stay]
    for start in range(0, len(going), 500):
        part = going[start : start + 500]
        Revision.objects.filter(parent__in=part).update(parent=None)  # only those that go are left there
        Revision.objects.filter(pk__in=part).delete()
