"""Server-sent events, beside Django: an open page costs no thread, and pages of one study are told by one look.

`/api/events?study=KEY` tells the study's runs and its newest revision: at first all, then what changed. Without a
study it only counts changes, for pages that show everything.
"""

import asyncio
import json
import time
from collections.abc import Awaitable, Callable, MutableMapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qs

from django.conf import settings
from django.db import close_old_connections
from django.http.request import split_domain_port, validate_host

from errant_gust.core.errors import GustError
from errant_gust.server import notices, revisions, runs
from errant_gust.server.api.schemas import RunOut
from errant_gust.server.models import Run
from errant_gust.server.safety import ELSEWHERE, HEADERS

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

PATH = "/api/events"
MOST_RUNS = 24
QUIET = 15.0  # seconds without a change after which a page is told that it is still told
AGED = 10.0  # seconds after which runs are looked at though nobody said anything: what other processes did
REST_OF_ALL = 0.8  # seconds between two counts

_pool = ThreadPoolExecutor(2, "gust-events")


@dataclass
class Told:
    """What there is to tell of a study: its runs by identity, as JSON, the newest first."""

    serial: int = -1
    made: float = 0.0
    revision: int | None = None
    runs: dict[str, str] = field(default_factory=dict)


_known: dict[str, Told] = {}
_looking: dict[str, asyncio.Task[Told]] = {}


def look(study: str, serial: int) -> Told:
    """Runs and revision of a study now; a GustError if there is none."""
    try:
        head = revisions.get(study).head_id
        found = Run.objects.filter(asked=study, gone=None).order_by("-changed")[:MOST_RUNS]
        said = {r.identity: json.dumps(RunOut.model_validate(runs.describe(r)).model_dump(mode="json")) for r in found}
        return Told(serial, time.monotonic(), head, said)
    finally:
        close_old_connections()


async def current(study: str) -> Told:
    """As `look`, made once for all pages that ask for it."""
    serial = notices.serial(study)
    known = _known.get(study)
    if known is not None and known.serial == serial and time.monotonic() - known.made < AGED:
        return known
    going = _looking.get(study)
    if going is None or going.done() or going.get_loop() is not asyncio.get_running_loop():
        going = asyncio.ensure_future(_renewed(study, serial))
        _looking[study] = going
    return await asyncio.shield(going)


async def _renewed(study: str, serial: int) -> Told:
    told = await asyncio.get_running_loop().run_in_executor(_pool, look, study, serial)
    if len(_known) > 256:
        _known.clear()
    _known[study] = told
    return told


def difference(before: Told, now: Told) -> str:
    """What changed, as JSON; empty if nothing did."""
    changed = [text for identity, text in now.runs.items() if before.runs.get(identity) != text]
    if not changed and before.runs.keys() == now.runs.keys() and before.revision == now.revision:
        return ""
    order = json.dumps(list(now.runs))
    return f'{{"runs": [{", ".join(changed)}], "order": {order}, "revision": {json.dumps(now.revision)}}}'


async def _of_study(study: str, tell: Callable[[str], Awaitable[None]]) -> None:
    event, last, first, spoke = notices.listen(study), Told(), True, time.monotonic()
    try:
        while True:
            event.clear()
            now = await current(study)
            words = difference(last, now)
            if words or first:
                await tell(f"data: {words or difference(Told(revision=-1), now)}\n\n")
                first, spoke = False, time.monotonic()
            elif time.monotonic() - spoke > QUIET:
                await tell(": still here\n\n")
                spoke = time.monotonic()
            last = now
            await asyncio.sleep(notices.REST)
            try:
                await asyncio.wait_for(event.wait(), AGED)
            except TimeoutError:
                continue
    finally:
        notices.leave(event)


async def _of_all(tell: Callable[[str], Awaitable[None]]) -> None:
    event = notices.listen()
    try:
        while True:
            event.clear()
            await tell(f'data: {{"serial": {notices.serial(notices.ALL)}}}\n\n')
            await asyncio.sleep(REST_OF_ALL)
            try:
                await asyncio.wait_for(event.wait(), QUIET)
            except TimeoutError:
                await tell(": still here\n\n")
    finally:
        notices.leave(event)


async def events(scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
    """The ASGI application for PATH."""
    study = parse_qs(scope["query_string"].decode("latin1")).get("study", [""])[0]
    refused = await _refusal(scope, study)
    if refused is not None:
        await _answer(send, *refused)
        return
    await send({"type": "http.response.start", "status": 200, "headers": _headers("text/event-stream")})

    async def tell(words: str) -> None:
        await send({"type": "http.response.body", "body": words.encode(), "more_body": True})

    await tell("retry: 1000\n\n")
    telling = asyncio.ensure_future(_of_study(study, tell) if study else _of_all(tell))
    leaving = asyncio.ensure_future(_left(receive))
    _, going = await asyncio.wait((telling, leaving), return_when=asyncio.FIRST_COMPLETED)
    for task in going:
        task.cancel()
    await asyncio.gather(telling, leaving, return_exceptions=True)


async def _refusal(scope: MutableMapping[str, Any], study: str) -> tuple[int, str] | None:
    """Status and words for who may not listen, or asks for what is not there."""
    hosts = [v.decode("latin1") for k, v in scope["headers"] if k.lower() == b"host"]
    domain, _ = split_domain_port(hosts[0] if hosts else "")
    if not validate_host(domain, settings.ALLOWED_HOSTS):
        return 400, "this server is not called that"
    if any(k.lower() == b"sec-fetch-site" and v.decode("latin1") in ELSEWHERE for k, v in scope["headers"]):
        return 403, "this request comes from another site"
    if scope["method"] != "GET":
        return 405, "events are only read"
    try:
        if study:
            await current(study)
    except GustError as error:
        return 404, str(error)
    return None


async def _left(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


def _headers(kind: str) -> list[tuple[bytes, bytes]]:
    return [
        (b"content-type", kind.encode()), (b"cache-control", b"no-cache"),
        *((name.lower().encode(), value.encode()) for name, value in HEADERS.items()),
    ]  # fmt: skip


async def _answer(send: Send, status: int, words: str) -> None:
    await send({"type": "http.response.start", "status": status, "headers": _headers("application/json")})
    await send({"type": "http.response.body", "body": json.dumps({"message": words}).encode()})
