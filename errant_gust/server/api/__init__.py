"""The typed API; its OpenAPI file gives the front end its types."""

from typing import Any

from django.db import OperationalError
from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI

from errant_gust.core.errors import Cancelled, GustError, absent
from errant_gust.core.files.room import NoRoom
from errant_gust.server.api.bakes import router as bakes
from errant_gust.server.api.deliveries import router as deliveries
from errant_gust.server.api.flipbooks import router as flipbooks
from errant_gust.server.api.look import router as look
from errant_gust.server.api.runs import router as runs
from errant_gust.server.api.scenes import router as scenes
from errant_gust.server.api.shelf import router as shelf
from errant_gust.server.api.studies import router as studies
from errant_gust.server.api.sweeps import router as sweeps
from errant_gust.server.api.turns import TooLong
from errant_gust.server.faults import told
from errant_gust.server.revisions import Conflict

api = NinjaAPI(title="Errant Gust", version="1", docs_url=None)
api.add_router("", studies)
api.add_router("", look)
api.add_router("", runs)
api.add_router("", bakes)
api.add_router("", shelf)
api.add_router("", sweeps)
api.add_router("", deliveries)
api.add_router("", flipbooks)
api.add_router("", scenes)


def problem(error: GustError) -> dict[str, Any]:
    return {"what": error.what, "where": error.where, "fix": error.fix, "message": str(error)}


@api.exception_handler(Conflict)
def conflict(request: HttpRequest, error: Conflict) -> HttpResponse:
    body = {**problem(error), "theirs": error.theirs.document, "revision": error.theirs.pk}
    return api.create_response(request, body, status=409)


@api.exception_handler(GustError)
def mendable(request: HttpRequest, error: GustError) -> HttpResponse:
    if isinstance(error, TooLong):
        return api.create_response(request, problem(error), status=503)
    missing = error.what.startswith(
        ("there is no study", "there is no run", "there is no sweep", "there is no delivery", "there is no flipbook")
    )
    return api.create_response(request, problem(error), status=404 if missing else 422)


def fault_of_the_machine(request: HttpRequest, error: Exception) -> HttpResponse:
    """A full disk or a busy database; anything else is a fault of ours and is raised again."""
    answer = told(error)
    if answer is None:
        raise error
    return api.create_response(request, answer[1], status=answer[0])


for machine in (NoRoom, OSError, OperationalError):
    api.exception_handler(machine)(fault_of_the_machine)


@api.exception_handler(ModuleNotFoundError)
def lacking(request: HttpRequest, error: ModuleNotFoundError) -> HttpResponse:
    """A part that is installed with an extra of the wheel."""
    words = absent(error)
    if words is None:
        raise error
    return api.create_response(request, problem(words), status=422)


@api.exception_handler(Cancelled)
def superseded(request: HttpRequest, error: Cancelled) -> HttpResponse:
    return HttpResponse(status=204)


def unusable(request: HttpRequest, error: Exception) -> HttpResponse:
    """A number too large or half a letter where the database or a calculation met it."""
    body = {"what": "holds a number or a text that cannot be used", "where": "", "fix": "", "message": str(error)[:200]}
    return api.create_response(request, body, status=422)


for fault in (OverflowError, UnicodeError, RecursionError):
    api.exception_handler(fault)(unusable)
