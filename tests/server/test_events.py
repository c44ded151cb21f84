"""Events: told once for all pages of a study, only what changed, to nobody else, and without a thread for each."""

import asyncio
import json
import threading
import time

import pytest

from errant_gust.server import events, notices, runs
from errant_gust.server.asgi import application
from errant_gust.server.models import Run
from tests.server.test_api import api, study  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)


class Page:
    """An open page, as an ASGI server sees it."""

    def __init__(self, query="", host="127.0.0.1", method="GET"):
        self.scope = {
            "type": "http", "path": "/api/events", "method": method, "query_string": query.encode(),
            "headers": [(b"host", host.encode())],
        }  # fmt: skip
        self.closed, self.status, self.text = asyncio.Event(), None, ""
        self.came = asyncio.Condition()
        self.task = asyncio.ensure_future(application(self.scope, self.receive, self.send))

    async def receive(self):
        await self.closed.wait()
        return {"type": "http.disconnect"}

    async def send(self, message):
        async with self.came:
            self.status = message.get("status", self.status)
            self.text += message.get("body", b"").decode()
            self.came.notify_all()

    @property
    def said(self):
        return [json.loads(line[6:]) for line in self.text.splitlines() if line.startswith("data: ")]

    async def has_said(self, count):
        async with self.came:
            await asyncio.wait_for(self.came.wait_for(lambda: len(self.said) >= count), 20)

    async def close(self):
        self.closed.set()
        await asyncio.wait_for(self.task, 10)


A, B = "a" * 24, "b" * 24


def new_run(study, identity):  # noqa: F811
    run = Run.objects.create(
        identity=identity, study_id=study["key"], flow="spray", kind="particles", quality="preview", last=6,
        state="stopped",
    )  # fmt: skip
    run.asked.add(study["key"])
    return run


@pytest.fixture(autouse=True)
def fresh(monkeypatch):
    monkeypatch.setattr(notices, "REST", 0.01)
    events._known.clear()
    yield
    assert not notices._waiting, "who leaves is forgotten"


def test_a_page_is_told_all_at_first_and_then_what_changed(study):  # noqa: F811
    new_run(study, A), new_run(study, B)

    async def page():
        one = Page(f"study={study['key']}")
        await one.has_said(1)
        await asyncio.to_thread(Run.objects.filter(identity=A).update, state="running")
        notices.changed(study["key"])
        await one.has_said(2)
        await asyncio.to_thread(Run.objects.filter(identity=B).delete)
        notices.changed()
        await one.has_said(3)
        await one.close()
        return one.said, one.status

    (first, second, third), status = asyncio.run(page())
    assert status == 200
    assert {r["identity"] for r in first["runs"]} == {A, B}
    assert [(r["identity"], r["state"]) for r in second["runs"]] == [(A, "running")]
    assert sorted(second["order"]) == [A, B]
    assert (third["runs"], third["order"]) == ([], [A])


def test_many_pages_of_a_study_cost_one_look_and_no_thread_each(study, monkeypatch):  # noqa: F811
    new_run(study, A)
    looks, look = [], events.look

    def counted(key, serial):
        looks.append(key)
        return look(key, serial)

    monkeypatch.setattr(events, "look", counted)

    async def pages():
        before = threading.active_count()
        many = [Page(f"study={study['key']}") for _ in range(40)]
        await asyncio.gather(*(p.has_said(1) for p in many))
        first, grown = len(looks), threading.active_count() - before
        await asyncio.to_thread(Run.objects.filter(identity=A).update, state="failed")
        notices.changed(study["key"])
        await asyncio.gather(*(p.has_said(2) for p in many))
        again = len(looks) - first
        notices.changed("another study")
        await asyncio.sleep(0.2)
        assert len(looks) == first + again, "what happens to another study wakes nobody"
        await asyncio.gather(*(p.close() for p in many))
        return first, again, grown

    first, again, grown = asyncio.run(pages())
    assert first <= 2
    assert again <= 2
    assert grown <= 3


def test_pages_of_everything_count_changes(study, monkeypatch):  # noqa: F811
    monkeypatch.setattr(events, "REST_OF_ALL", 0.01)

    async def page():
        one = Page()
        await one.has_said(1)
        for n in range(3):
            notices.changed(study["key"])
            await one.has_said(n + 2)
        await one.close()
        return one.said

    serials = [s["serial"] for s in asyncio.run(page())]
    assert serials == sorted(set(serials))


@pytest.mark.parametrize(
    ("page", "status"),
    [
        ({"query": "study=none"}, 404),
        ({"query": "study=../x"}, 404),
        ({"host": "elsewhere.example"}, 400),
        ({"method": "POST"}, 405),
    ],
)
def test_strangers_and_what_is_not_there_are_refused(page, status):
    async def refused():
        one = Page(**page)
        await asyncio.wait_for(one.task, 10)
        return one.status

    assert asyncio.run(refused()) == status


def test_frames_that_come_are_seen_though_folders_are_not_listed_again(tmp_path, monkeypatch):
    monkeypatch.setattr(runs, "folder_of", lambda identity: tmp_path / identity)
    frames = tmp_path / "r" / "frames"
    assert runs._frames("r") == []
    frames.mkdir(parents=True)
    for n in range(1, 30):
        (frames / f"{n:06d}.zarr").mkdir()
        assert runs._frames("r") == list(range(1, n + 1))
    monkeypatch.setattr(runs, "SETTLED", -1.0)
    runs._frames("r")
    listed = []
    monkeypatch.setattr(runs.RunStore, "frames", lambda store: listed.append(1) or [])
    assert runs._frames("r") == list(range(1, 30))
    assert not listed
    time.sleep(0.02)
    (frames / "000030.zarr").mkdir()
    runs._frames("r")
    assert listed
