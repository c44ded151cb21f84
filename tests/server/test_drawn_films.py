"""Flipbooks that the server draws from runs: followed, stopped, gone on with after the server, refused in words."""

import io
import shutil

import numpy as np
import pytest
from django.test import Client
from PIL import Image

from errant_gust.core.errors import GustError
from errant_gust.core.home import home
from errant_gust.server import flipbooks, workers
from tests.clusters import until
from tests.server.test_api import api, study, wait_for  # noqa: F401
from tests.server.test_flipbooks import finished

pytestmark = pytest.mark.django_db(transaction=True)
HERE = {"frame": 1, "position": [0, -12, 4], "target": [0, 0, 1], "parallel": False}
ORDER = {
    "name": "Gust", "first": 1, "last": 4, "width": 96, "height": 64, "fps": 24, "note": "", "quality": "draft",
    "views": [HERE],
}  # fmt: skip


@pytest.fixture
def ran(api, study):  # noqa: F811
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    wait_for(api, study["key"], run["identity"])
    yield study["key"], run["identity"]
    shutil.rmtree(home() / "flipbooks", ignore_errors=True)


def pixels(address):
    return np.asarray(Image.open(io.BytesIO(b"".join(Client().get(f"/api{address}"))))).astype(int)


def test_one_is_drawn_and_made_and_a_still_is_one_picture(api, ran):  # noqa: F811
    key, identity = ran
    base = f"/studies/{key}/flipbooks"
    id = api("POST", f"{base}-drawn", {**ORDER, "runs": [identity]})["id"]
    told = finished(api, f"{base}/{id}")
    assert (told["first"], told["last"], told["width"]) == (1, 4, 96)
    assert [f["id"] for f in api("GET", base)] == [id]
    assert api("GET", f"{base}-unfinished") == []
    whole = [pixels(f"{base}/{id}/frames/{n}") for n in (1, 4)]
    assert whole[0].shape == (64, 96, 3)
    assert (whole[0] != whole[1]).any()
    still = api("POST", f"{base}-drawn", {**ORDER, "runs": [identity], "first": 4, "last": 4})["id"]
    finished(api, f"{base}/{still}")
    assert pixels(f"{base}/{still}/frames/4").shape == (64, 96, 3)
    moved = api("POST", f"{base}-drawn", {**ORDER, "runs": [identity], "views": [
        HERE, {**HERE, "frame": 4, "position": [12, 0, 4], "parallel": True}]})["id"]  # fmt: skip
    finished(api, f"{base}/{moved}")
    assert np.abs(pixels(f"{base}/{moved}/frames/4") - whole[1]).mean() > 1
    assert Client().get(f"/api{base}/{id}/frames/9").status_code == 422
    saved = Client().get(f"/api{base}/{id}/frames/4?save=true")
    assert "attachment" in saved["Content-Disposition"]


def test_one_that_is_stopped_keeps_what_it_has_is_listed_and_goes_on(api, ran, monkeypatch):  # noqa: F811
    key, identity = ran
    base = f"/studies/{key}/flipbooks"
    asked = []
    monkeypatch.setattr(workers.FILMS, "do", lambda *order: asked.append(order) or "x")
    monkeypatch.setattr(workers.FILMS, "stop", lambda id: asked[-1][3]({"state": "stopped", "message": ""}))
    id = api("POST", f"{base}-drawn", {**ORDER, "runs": [identity]})["id"]
    task, given, tell, _ = asked[0]
    assert (task, [p.rsplit("/", 1)[1] for p in given["runs"]]) == ("drawn", [identity])
    tell({"done": 2})
    told = api("GET", f"{base}/{id}")
    assert (told["done"], told["total"], told["going"], told["drawing"]) == (2, 4, True, True)
    assert 0 < told["left"] < 60
    made = flipbooks.get(key, id)
    monkeypatch.undo()
    picture = io.BytesIO()
    Image.new("RGB", (96, 64), (1, 2, 3)).save(picture, "PNG")
    made.put(1, picture.getvalue())
    monkeypatch.setattr(workers.FILMS, "stop", lambda id: asked[-1][3]({"state": "stopped", "message": ""}))
    told = api("POST", f"{base}/{id}/stop")
    assert (told["done"], told["going"], told["film"]) == (1, False, None)
    monkeypatch.undo()
    (left,) = api("GET", f"{base}-unfinished")
    assert (left["id"], left["drawn"], left["last"]) == (id, 1, 4)
    flipbooks.sweep()
    assert api("GET", f"{base}-unfinished") == [left], "the next server knows it too"
    assert "came from a page" in api("POST", f"{base}/{api('POST', base, FILM)['id']}/go-on", status=422)["message"]
    api("POST", f"{base}/{id}/go-on")
    finished(api, f"{base}/{id}")
    assert (pixels(f"{base}/{id}/frames/1") == [1, 2, 3]).all(), "what was drawn is not drawn again"
    assert api("POST", f"{base}/{id}/go-on")["film"]["id"] == id
    assert api("GET", f"{base}-unfinished") == []


FILM = {"name": "Gust", "first": 2, "last": 4, "width": 128, "height": 64, "fps": 24, "note": ""}


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"runs": []}, "no flow that is shown has a run"),
        ({"runs": ["0" * 24]}, "there is no run"),
        ({"views": []}, "there is no camera"),
        ({"views": [{**HERE, "position": [0, 0, 1e30]}]}, ""),
        ({"quality": "best"}, "'best' is no quality"),
        ({"last": 7}, "not all frames of spray are computed"),
        ({"last": 50_000}, "are no frames"),
        ({"width": 97}, "an even number"),
        ({"width": 4096, "height": 4096}, "at most 3840 × 2160 in all"),
    ],
)
def test_what_cannot_be_drawn_is_said_before_anything_is_made(api, ran, change, words):  # noqa: F811
    key, identity = ran
    base = f"/studies/{key}/flipbooks"
    order = {**ORDER, "runs": [identity], **change}
    said = api(
        "POST", f"{base}-drawn", order, status=404 if words.startswith("there is no run") else 422 if words else 200
    )
    if words:
        assert words in said["message"]
        assert api("GET", f"{base}-unfinished") == []
    else:  # from where nothing is seen there is a picture of nothing
        assert until(lambda: api("GET", f"{base}/{said['id']}")["film"])


def test_a_film_that_fails_is_told_and_what_is_drawn_stays(api, ran, monkeypatch):  # noqa: F811
    key, identity = ran
    base = f"/studies/{key}/flipbooks"
    with monkeypatch.context() as m:
        m.setattr(workers.FILMS, "do", lambda *order: order[3]({"state": "failed", "message": "it broke"}) or "x")
        told = api("POST", f"{base}-drawn", {**ORDER, "runs": [identity]}, status=422)
    assert "the film could not be made: it broke" in told["message"]
    (left,) = api("GET", f"{base}-unfinished")
    monkeypatch.setattr(flipbooks.runs, "get", gone)
    assert "there is no run" in api("POST", f"{base}/{left['id']}/go-on", status=404)["message"]
    api("DELETE", f"{base}/{left['id']}", status=204)
    assert api("GET", f"{base}-unfinished") == []


def gone(identity):
    raise GustError(f"there is no run '{identity}'")
