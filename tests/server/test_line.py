"""The line before what is looked at: who comes next, who gives up, and what is made once for many."""

import asyncio
import importlib
import json
import threading
import time

import pytest

from errant_gust.core.errors import Cancelled, StudyError
from errant_gust.core.runs import carried
from errant_gust.core.wanted import check, while_wanted
from errant_gust.server import asgi
from errant_gust.server import line as lines
from errant_gust.server.api import turns
from errant_gust.server.line import Line, Once
from tests.clusters import until
from tests.server.test_api import api, study  # noqa: F401


def started(work):
    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    return thread


class Holding:
    """A line of one place that is held until it is let go; who comes then is noted in order."""

    def __init__(self, places=1):
        self.line, self.order, self.free = Line(lambda: places), [], threading.Event()
        self.threads = [started(self._hold)]
        until(lambda: self.line._busy)

    def _hold(self):
        with self.line.place(0, "holder", lambda: False):
            self.free.wait(30)

    def comes(self, name, rank=0, client=None, takes=0.0, unwanted=lambda: False):
        def work():
            try:
                with self.line.place(rank, client or name, unwanted):
                    self.order.append(name)
                    time.sleep(takes)
            except Cancelled:
                self.order.append(f"{name} gave up")

        waiting = len(self.line._waiting)
        self.threads.append(started(work))
        until(lambda: len(self.line._waiting) > waiting)

    def ends(self):
        self.free.set()
        for thread in self.threads:
            thread.join(30)
        assert not self.line._waiting
        assert self.line._busy == 0
        return self.order


def test_who_drags_comes_before_who_reads_numbers():
    held = Holding()
    held.comes("reads", rank=2)
    held.comes("sees", rank=1)
    held.comes("drags", rank=0)
    assert held.ends() == ["drags", "sees", "reads"]


def test_of_equals_comes_first_who_took_least_lately():
    held = Holding()
    for n in range(3):
        held.comes(f"greedy {n}", client="greedy", takes=0.03)
    held.comes("modest", client="modest")
    assert held.ends() == ["greedy 0", "modest", "greedy 1", "greedy 2"]


def test_nobody_waits_for_ever(monkeypatch):
    monkeypatch.setattr(lines, "PATIENCE", 0.1)
    held = Holding()
    held.comes("reads", rank=2)
    time.sleep(0.4)
    held.comes("drags", rank=0)
    assert held.ends() == ["reads", "drags"]


def test_who_is_no_longer_wanted_leaves_at_once():
    held = Holding()
    over = threading.Event()
    held.comes("old", unwanted=over.is_set)
    held.comes("new")
    over.set()
    until(lambda: held.order == ["old gave up"], 10)
    assert held.ends() == ["old gave up", "new"]


def test_no_more_than_there_are_places_and_an_error_gives_its_place_back():
    line, inside, most = Line(lambda: 3), [], []

    def work(n):
        try:
            with line.place(0, str(n), lambda: False):
                inside.append(n)
                most.append(len(inside))
                time.sleep(0.005)
                inside.remove(n)
                if n % 3 == 0:
                    raise StudyError("wrong")
        except StudyError:
            pass

    threads = [started(lambda n=n: work(n)) for n in range(40)]
    [t.join(30) for t in threads]
    assert max(most) == 3
    assert line._busy == 0


def test_what_many_ask_for_at_once_is_made_once_and_errors_are_shared():
    once, made, begin = Once(), [], threading.Barrier(8)
    results = []

    def slow():
        made.append(1)
        time.sleep(0.1)
        return len(made)

    def ask():
        begin.wait(10)
        results.append(once.make("same", lambda: False, slow))

    threads = [started(ask) for _ in range(8)]
    [t.join(30) for t in threads]
    assert results == [1] * 8
    assert once.make("same", lambda: False, slow) == 2, "later it is made anew"
    with pytest.raises(StudyError):
        once.make("wrong", lambda: False, lambda: (_ for _ in ()).throw(StudyError("no")))
    assert not once._flying


def test_if_the_first_gives_up_the_next_makes_it():
    once, begun, go = Once(), threading.Event(), threading.Event()

    def gives_up():
        begun.set()
        go.wait(10)
        raise Cancelled

    def first_one():
        with pytest.raises(Cancelled):
            once.make("k", lambda: False, gives_up)

    first = started(first_one)
    begun.wait(10)
    got = []
    second = started(lambda: got.append(once.make("k", lambda: False, lambda: "made")))
    time.sleep(0.1)
    go.set()
    first.join(10), second.join(10)
    assert got == ["made"]
    assert not once._flying


def test_of_many_who_wait_one_makes_it_for_all_when_the_first_gives_up_and_who_leaves_is_not_missed():
    for _ in range(20):
        once, begun, go = Once(), threading.Event(), threading.Event()
        made, got, left, unwanted = [], [], [], threading.Event()

        def gives_up(begun=begun, go=go):
            begun.set()
            go.wait(10)
            raise Cancelled

        def first_one(once=once, gives_up=gives_up):
            with pytest.raises(Cancelled):
                once.make("k", lambda: False, gives_up)

        def waits(once=once, made=made, got=got):
            got.append(once.make("k", lambda: False, lambda: made.append(1) or len(made)))

        def leaves(once=once, left=left, unwanted=unwanted):
            try:
                once.make("k", unwanted.is_set, lambda: 1)
            except Cancelled:
                left.append(1)

        threads = [started(first_one)]
        begun.wait(10)
        threads += [started(waits) for _ in range(5)] + [started(leaves)]
        until(lambda once=once: once._flying["k"].waiting == 6)
        unwanted.set()
        until(lambda left=left: left)
        go.set()
        [t.join(10) for t in threads]
        assert made == [1], "once, though five waited"
        assert got == [1] * 5
        assert not once._flying


@pytest.mark.django_db(transaction=True)
def test_equal_requests_of_two_tabs_share_an_answer_and_newer_ones_of_a_tab_win(api, study, monkeypatch):  # noqa: F811
    views = importlib.import_module("errant_gust.server.api.look")
    asked, free, sample = [], threading.Event(), views.sample

    def counted(*given, **named):
        asked.append(1)
        free.wait(20)
        return sample(*given, **named)

    monkeypatch.setattr(views, "sample", counted)
    plane = {"origin": [-1, 0, -1], "u": [2, 0, 0], "v": [0, 0, 2], "columns": 8, "rows": 8}
    body = {"study": study["key"], "document": study["document"], "lane": "wind", "slice": plane}
    answers = []

    def ask(tab, serial, at=0.0):
        made = api.client.post(
            "/api/look/probe", {**body, "channel": f"{tab}.probe", "serial": serial, "time": at},
            content_type="application/json",
        )  # fmt: skip
        answers.append((tab, serial, made.status_code, made.content))

    threads = [started(lambda t=t: ask(t, 1)) for t in ("one", "two", "three")]
    until(lambda: [m.waiting for m in list(turns._once._flying.values())] == [2])
    threads += [started(lambda: ask("one", 2, 0.5))]
    until(lambda: len(asked) == 2)
    free.set()
    [t.join(30) for t in threads]
    assert len(asked) in (2, 3), "the first of three made it for all, or another of them when the first was passed by"
    by = {(tab, serial): (status, content) for tab, serial, status, content in answers}
    assert by["two", 1] == by["three", 1]
    assert by["two", 1][0] == by["one", 2][0] == 200


def test_from_particles_gives_up_when_it_is_no_longer_wanted():
    states = carried._States()
    held, free = threading.Event(), threading.Event()

    def somebody():
        with states.making:
            held.set()
            free.wait(30)

    other = started(somebody)
    held.wait(10)
    began = time.monotonic()
    with pytest.raises(Cancelled), while_wanted(lambda: time.monotonic() - began > 0.2), states.making:
        pass
    assert time.monotonic() - began < 5
    free.set()
    other.join(10)
    with while_wanted(lambda: True), states.making:
        pass


def test_long_work_aside_lets_others_in():
    line, order = Line(lambda: 1), []
    with line.place(0, "long", lambda: False) as place:
        with place.aside():
            with line.place(0, "short", lambda: False):
                order.append("short")
            order.append("long work")
        assert line._busy == 1, "it counts again, for the little that is left to do"
    assert order == ["short", "long work"]
    assert line._busy == 0


def test_who_never_ends_keeps_nobody_out_for_ever():
    line, free = Line(lambda: 1, longest=0.3), threading.Event()

    def stuck():
        with line.place(0, "stuck", lambda: False):
            free.wait(30)

    thread = started(stuck)
    until(lambda: line._busy)
    began = time.monotonic()
    with line.place(0, "next", lambda: time.monotonic() - began > 10):
        assert time.monotonic() - began < 5
    free.set()
    thread.join(10)
    assert line._busy == 0


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("heeds", [True, False])
def test_a_look_that_takes_too_long_is_given_up_with_words(monkeypatch, heeds):
    """Whether it asks if it is wanted, or never does: then its thread is left to itself and the answer comes all the
    same."""
    monkeypatch.setattr(turns, "LONGEST", 0.3)
    monkeypatch.setattr(asgi, "LONGEST", 0.3)
    monkeypatch.setattr(asgi, "GRACE", 0.4)
    free = threading.Event()

    def stuck(key, data):
        while not free.wait(0.02):
            if heeds:
                check()

    monkeypatch.setattr(importlib.import_module("errant_gust.server.api.look"), "plan_of", stuck)
    said = asyncio.run(_asked({"study": "any", "document": {}}, free.set))
    assert said[0]["status"] == 503
    assert b"took longer than" in said[1]["body"]
    assert b"try again" in said[1]["body"]


@pytest.mark.django_db(transaction=True)
def test_a_look_ends_when_its_client_goes(monkeypatch):
    ended = threading.Event()

    def endless(key, data):
        try:
            while True:
                check()
                time.sleep(0.02)
        except Cancelled:
            ended.set()
            raise

    monkeypatch.setattr(importlib.import_module("errant_gust.server.api.look"), "plan_of", endless)
    asyncio.run(_asked({"study": "any", "document": {}}, ended.is_set, leaves=0.3))
    assert ended.wait(5)


async def _asked(body, then, leaves=60.0):
    """The messages of the answer to a look, after which `then` is called; the client leaves after so many seconds."""
    said, text = [], json.dumps(body).encode()
    sent = iter([{"type": "http.request", "body": text, "more_body": False}])

    async def receive():
        for message in sent:
            return message
        await asyncio.sleep(leaves)
        return {"type": "http.disconnect"}

    async def send(message):
        said.append(message)

    scope = {
        "type": "http", "method": "POST", "path": "/api/look/shapes", "query_string": b"", "http_version": "1.1",
        "headers": [(b"host", b"localhost"), (b"x-errant-gust", b"1"), (b"content-type", b"application/json"),
                    (b"content-length", str(len(text)).encode())],
    }  # fmt: skip
    await asgi.application(scope, receive, send)
    then()  # the loop waits for its threads
    return said
