"""Views that look: they take their turn in the line, the newest of a channel wins, and equals are answered once."""

import functools
import hashlib
import json
import time
from collections.abc import Callable
from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import Schema
from pydantic import ConfigDict, Field

from errant_gust.core.errors import Cancelled, GustError
from errant_gust.core.wanted import while_wanted
from errant_gust.server.clients import gone_of
from errant_gust.server.line import LONGEST, Once, line
from errant_gust.server.newest import Turn

DRAGS, SEES, READS = 0, 1, 2
"""Ranks: what moves under a hand, what is drawn besides, numbers."""
_once: Once[Any] = Once()


class TooLong(GustError):
    """A look that took longer than anybody waits: it was given up."""


class Asking(Schema):
    """Who asks, and for the how manieth time: `tab.name` of what is asked for, and a number that grows."""

    model_config = ConfigDict(allow_inf_nan=False)
    channel: str = Field("", max_length=200)
    serial: int = 0

    def turn(self) -> Turn:
        return Turn(self.channel or str(id(self)), self.serial)


def too_long() -> TooLong:
    """The words for it; what was made on the way is kept, so that another try goes on from there."""
    return TooLong(
        f"this took longer than {LONGEST:.0f} s and was given up",
        fix="try again, it goes on from where it was; or look at less: coarser voxels, an earlier frame",
    )


View = Callable[[HttpRequest, Any], Any]


def taking_turns(rank: int) -> Callable[[View], View]:
    """For a view whose body is an `Asking`."""

    def around(view: View) -> View:
        @functools.wraps(view)
        def taken(request: HttpRequest, body: Any) -> Any:
            turn, gone, end = body.turn(), gone_of(request), time.monotonic() + LONGEST
            said = json.dumps(body.model_dump(exclude={"channel", "serial"}), default=str)
            key = f"{view.__name__} {hashlib.blake2b(said.encode(), digest_size=16).hexdigest()}"

            def unwanted() -> bool:
                return turn.superseded() or gone() or time.monotonic() > end

            def work() -> Any:
                with (
                    line.place(rank, body.channel.partition(".")[0], unwanted) as place,
                    while_wanted(unwanted, place.aside),
                ):
                    return view(request, body)

            try:
                return _own(_once.make(key, unwanted, work))
            except Cancelled:
                if time.monotonic() > end and not turn.superseded():
                    raise too_long() from None
                raise

        return taken

    return around


def _own(made: Any) -> Any:
    """Every request has an answer of its own, to which headers are added."""
    if not isinstance(made, HttpResponse):
        return made
    return HttpResponse(made.content, status=made.status_code, headers=dict(made.items()))
