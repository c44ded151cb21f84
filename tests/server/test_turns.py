"""Whose turn it is: previews of other studies give way to the one that is looked at, and go on after it."""

import time

import pytest

from errant_gust.core.study.document import dump
from errant_gust.server import runs
from tests.core.test_gas import PUFF, gas
from tests.server.test_api import api, wait_for  # noqa: F401  (api is a fixture)

pytestmark = pytest.mark.django_db(transaction=True)


def started(api, end, name, h):  # noqa: F811
    document = dump(gas(PUFF, ("rise", {}), h=h, end=end).study)
    made = api("POST", "/studies", {"document": {**document, "name": name}})
    return made["key"], api("POST", "/runs", {"study": made["key"], "flow": "g"})["identity"]


def state_of(api, key, identity):  # noqa: F811
    return next(r for r in api("GET", f"/runs?study={key}") if r["identity"] == identity)


def test_a_long_preview_gives_way_keeps_its_frames_and_goes_on_afterwards(api):  # noqa: F811
    long, first = started(api, 60, "Long", 0.03)
    end = time.monotonic() + 60
    while len(state_of(api, long, first)["frames"]) < 2 and time.monotonic() < end:
        time.sleep(0.02)
    short, second = started(api, 3, "Short", 0.04)
    told, order = set(), []
    while time.monotonic() < end and "second" not in order:
        a, b = state_of(api, long, first), state_of(api, short, second)
        told.add(a["behind"].split(" (")[0])
        if a["state"] == "waiting" and "gave way" not in order:
            order.append("gave way")
        if b["state"] == "done":
            order.append("second")
        assert a["state"] != "done", "the one that is looked at comes first"
        time.sleep(0.01)
    assert order == ["gave way", "second"]
    assert "Short, g" in told, "who waits is told for what"
    assert wait_for(api, long, first)["frames"] == list(range(1, 61))
    assert runs.get(first).state == "done"
