"""A clock that becomes shorter while a run goes: nothing is computed beyond it, and what waits comes next."""

import io
import time
import zipfile

import pytest

from errant_gust.server.models import Run
from tests.server.test_api import api, study  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)


def test_a_run_ends_where_the_clock_does_now(api, study):  # noqa: F811
    key, document = study["key"], study["document"]
    document["clock"]["end"] = 4000
    saved = api("PUT", f"/studies/{key}", {"document": document, "base": study["revision"], "label": "long"})
    flow = document["flows"][0]["id"]
    run = api("POST", "/runs", {"study": key, "flow": flow, "quality": "preview"})
    document["clock"]["end"] = 6
    api("PUT", f"/studies/{key}", {"document": document, "base": saved["revision"], "label": "short"})
    again = api("POST", "/runs", {"study": key, "flow": flow, "quality": "preview"})
    assert again["identity"] == run["identity"], "the end of the clock is no part of what a run is"
    until = time.monotonic() + 60
    while time.monotonic() < until and Run.objects.get(identity=run["identity"]).state in ("waiting", "running"):
        time.sleep(0.05)
    ended = Run.objects.get(identity=run["identity"])
    assert ended.state == "done"
    assert ended.last == 6
    frames = api("GET", f"/runs?study={key}")[0]["frames"]
    assert set(range(1, 7)) <= set(frames)
    assert len(frames) < 4000


def test_an_export_ends_where_the_clock_does(api, study):  # noqa: F811
    key, document = study["key"], study["document"]
    run = api("POST", "/runs", {"study": key, "flow": document["flows"][0]["id"], "quality": "preview"})
    until = time.monotonic() + 60
    while time.monotonic() < until and Run.objects.get(identity=run["identity"]).state != "done":
        time.sleep(0.05)
    document["clock"]["end"] = 3
    api("PUT", f"/studies/{key}", {"document": document, "base": study["revision"], "label": "short"})
    zipped = b"".join(api("GET", f"/runs/{run['identity']}/export?format=ply").streaming_content)
    with zipfile.ZipFile(io.BytesIO(zipped)) as archive:
        files = [n for n in archive.namelist() if n.endswith(".ply")]
    assert len(files) == 3
    assert len(api("GET", f"/runs?study={key}")[0]["frames"]) == 6, "what was computed is kept"
