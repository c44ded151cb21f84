"""Views that look: they take their turn in the line, the newest of a channel wins, and equals are answered once."""

import functools
import hashlib
import json
from collections.abc import Callable
from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import Schema

from errant_gust.server.line import Once, line
from errant_gust.server.newest import Turn

DRAGS, SEES, READS = 0, 1, 2
"""Ranks: what moves under a hand, what is drawn besides, numbers."""
_once: Once[Any] = Once()


class Asking(Schema):
    """Who asks, and for the how manieth time: `tab.name` of what is asked for, and a number that grows."""

    channel: str = ""
    serial: int = 0

    def turn(self) -> Turn:
        return Turn(self.channel or str(id(self)), self.serial)


View = Callable[[HttpRequest, Any], Any]


def taking_turns(rank: int) -> Callable[[View], View]:
    """For a view whose body is an `Asking`."""

    def around(view: View) -> View:
        @functools.wraps(view)
        def taken(request: HttpRequest, body: Any) -> Any:
            turn = body.turn()
            said = json.dumps(body.model_dump(exclude={"channel", "serial"}), default=str)
            key = f"{view.__name__} {hashlib.blake2b(said.encode(), digest_size=16).hexdigest()}"

            def work() -> Any:
                with line.place(rank, body.channel.partition(".")[0], turn.superseded):
                    return view(request, body)

            return _own(_once.make(key, turn.superseded, work))

        return taken

    return around


def _own(made: Any) -> Any:
    """Every request has an answer of its own, to which headers are added."""
    if not isinstance(made, HttpResponse):
        return made
    return HttpResponse(made.content, status=made.status_code, headers=dict(made.items()))
