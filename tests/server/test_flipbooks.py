"""Flipbooks through the server: begun, sent picture by picture, finished, played by ranges, handed over, swept."""

import io
import json
import zipfile
from datetime import timedelta
from pathlib import Path

import numpy as np
import pytest
from django.test import Client
from django.utils import timezone
from PIL import Image

from errant_gust.server import flipbooks
from errant_gust.server.models import Study
from tests.clusters import until
from tests.core.test_flipbook import decoded, png
from tests.server.test_api import api, study, wait_for  # noqa: F401
from tests.server.test_deliveries import going, root  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)
FILM = {"name": "Gust", "first": 2, "last": 4, "width": 128, "height": 64, "fps": 24, "note": ""}


def put(address, data, status=204):
    sent = Client().put(address, data, content_type="image/png", headers={"X-Errant-Gust": "1"})
    assert sent.status_code == status, sent.content
    return sent


def finished(api, address):  # noqa: F811
    return until(lambda: api("GET", address)["film"], why="the film is not made")


def why_not(address):
    """What is told of a film that fails: in answer to the order, or when it is looked at."""
    sent = Client().post(f"{address}/finish", headers={"X-Errant-Gust": "1"})
    if sent.status_code == 200:
        sent = until(lambda: (got := Client().get(address)).status_code != 200 and got, why="it does not fail")
    assert sent.status_code == 422
    return sent.json()["message"]


@pytest.fixture
def made(api, study):  # noqa: F811
    base = f"/studies/{study['key']}/flipbooks"
    id = api("POST", base, FILM)["id"]
    for frame in (2, 3, 4):
        put(f"/api{base}/{id}/frames/{frame}", png((20 * frame, 60, 120)))
    assert api("GET", base) == [], "it is none until it is finished"
    api("POST", f"{base}/{id}/finish")
    finished(api, f"{base}/{id}")
    return f"{base}/{id}"


def test_one_is_made_played_by_ranges_saved_and_taken_away(api, study, made, tmp_path):  # noqa: F811
    (told,) = api("GET", f"/studies/{study['key']}/flipbooks")
    assert (told["first"], told["last"], told["width"], told["fps"]) == (2, 4, 128, 24)
    whole = b"".join(Client().get(f"/api{made}/movie?save=true"))
    (tmp_path / "film.mp4").write_bytes(whole)
    assert len(decoded(tmp_path / "film.mp4")[2]) == 3
    part = Client().get(f"/api{made}/movie", headers={"Range": "bytes=10-19"})
    assert (part.status_code, part.content, part["Content-Range"]) == (206, whole[10:20], f"bytes 10-19/{len(whole)}")
    assert Client().get(f"/api{made}/movie", headers={"Range": "bytes=-7"}).content == whole[-7:]
    assert Client().get(f"/api{made}/movie", headers={"Range": f"bytes={len(whole)}-"}).status_code == 422
    archive = zipfile.ZipFile(io.BytesIO(b"".join(Client().get(f"/api{made}/zip"))))
    assert sorted(archive.namelist()) == ["flipbook.0002.png", "flipbook.0003.png", "flipbook.0004.png",
                                          "flipbook.json", "flipbook.mp4"]  # fmt: skip
    assert archive.read("flipbook.0003.png") == png((60, 60, 120))
    api("DELETE", made, status=204)
    assert api("GET", f"/studies/{study['key']}/flipbooks") == []


def test_what_does_not_belong_is_refused_in_words_and_what_was_left_is_swept(api, study):  # noqa: F811
    base = f"/studies/{study['key']}/flipbooks"
    assert "an even number" in api("POST", base, {**FILM, "width": 5}, status=422)["message"]
    id = api("POST", base, FILM)["id"]
    assert "is not in it" in put(f"/api{base}/{id}/frames/9", png(), 422).json()["message"]
    assert "no PNG" in put(f"/api{base}/{id}/frames/2", b"GIF89a", 422).json()["message"]
    assert "has no picture of frame 2" in api("POST", f"{base}/{id}/finish", status=422)["message"]
    assert "is not finished" in Client().get(f"/api{base}/{id}/movie").json()["message"]
    api("DELETE", f"{base}/..%2F..%2Fstudies", status=404)
    api("DELETE", f"{base}/000000000000", status=404)
    folder = flipbooks.get(study["key"], id).folder
    flipbooks.sweep()
    assert not folder.exists()


def test_a_film_that_is_made_tells_how_far_it_is_and_is_stopped_or_fails_in_words(api, study):  # noqa: F811
    base = f"/studies/{study['key']}/flipbooks"
    film = {**FILM, "first": 1, "last": 120, "width": 640, "height": 480}
    rng = np.random.default_rng(3)
    noise = io.BytesIO()  # the hardest that there is
    Image.fromarray(rng.integers(0, 256, (480, 640, 3), np.uint8)).save(noise, "PNG")
    data = noise.getvalue()
    ids = [api("POST", base, film)["id"] for _ in range(2)]
    for id in ids:
        for frame in range(1, 121):
            flipbooks.get(study["key"], id).put(frame, data)
    at = f"{base}/{ids[0]}"
    told = api("GET", at)
    assert (told["done"], told["total"], told["film"], told["going"]) == (0, 120, None, False), "nobody asked for it"
    assert api("POST", f"{at}/finish")["total"] == 120
    seen = until(lambda: (told := api("GET", at))["done"] > 2 and told, why="it does not tell how far it is")
    assert seen["film"] is None
    assert 0 < seen["left"] < 600
    assert api("POST", f"{at}/finish")["done"] >= seen["done"], "asked twice, made once"
    folder = flipbooks.get(study["key"], ids[0]).folder
    api("DELETE", at, status=204)
    assert not folder.exists()
    assert api("GET", base) == []
    flipbooks.get(study["key"], ids[1]).picture(3).write_bytes(b"no picture any more")
    assert "the film could not be made" in why_not(f"/api{base}/{ids[1]}")
    assert api("GET", f"{base}/{ids[1]}")["film"] is None, "told once; the pictures are there, to try it again"
    with pytest.MonkeyPatch.context() as m:
        m.setattr(flipbooks.Flipbook, "finish", lambda *_: 1 / 0)
        assert "ZeroDivisionError" in why_not(f"/api{base}/{ids[1]}")
    flipbooks.get(study["key"], ids[1]).put(3, data)
    api("POST", f"{base}/{ids[1]}/finish")
    assert finished(api, f"{base}/{ids[1]}")["bytes"] > 120 * len(data)
    api("DELETE", f"{base}/{ids[1]}", status=204)


def test_those_of_a_study_that_was_deleted_long_ago_are_freed(api, study, made):  # noqa: F811
    folder = flipbooks.get(study["key"], made.rsplit("/", 1)[1]).folder
    row = Study.objects.filter(key=study["key"])
    for ago, stays in ((timedelta(hours=1), True), (timedelta(days=3), False)):
        row.update(deleted=timezone.now() - ago)
        flipbooks.sweep()
        assert folder.exists() == stays


def test_it_is_handed_over_with_a_run_and_the_command_makes_both_again(api, study, made, root):  # noqa: F811
    study["document"]["clock"]["fps"] = 31
    api("PUT", f"/studies/{study['key']}", {**study, "base": study["revision"], "label": "x"})
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray", "quality": "preview"})["identity"]
    wait_for(api, study["key"], run)
    id = made.rsplit("/", 1)[1]
    assert [f["id"] for f in api("GET", f"/hand-over?study={study['key']}")["flipbooks"]] == [id]
    order = {"study": study["key"], "items": [{"run": run, "format": "npz"}], "flipbooks": [id], "options": {},
             "root": root, "name": "both"}  # fmt: skip
    assert "flipbook/Gust_2-4/flipbook.mp4" in api("POST", "/hand-over/plan", order)["files"]
    asked = api("POST", "/hand-over", order)["id"]
    until(lambda: going(api, study, asked)["state"] == "done", 60)
    said = json.loads(Path(root, "both", "delivery.json").read_text())
    assert f"--flipbook {flipbooks.get(study['key'], id).folder}" in said["command"]
    assert {f["name"] for f in said["files"]} >= {
        "flipbook/Gust_2-4/flipbook.mp4",
        "flipbook/Gust_2-4/flipbook.0002.png",
    }


def test_the_camera_is_told_where_it_is_on_every_frame(api):  # noqa: F811
    views = [
        {"frame": 5, "position": [4, 0, 2], "target": [0, 0, 1], "parallel": True},
        {"frame": 1, "position": [0, -6, 1], "target": [0, 0, 1]},
    ]
    path = api("POST", "/camera-path", {"views": views, "first": 1, "last": 6})
    assert [k["frame"] for k in path] == [1, 2, 3, 4, 5, 6]
    assert path[2]["position"] == pytest.approx([2, -3, 1.5])
    assert path[5] == {**views[0], "frame": 6}
    assert (
        "at most" in api("POST", "/camera-path", {"views": views, "first": 0, "last": 9_999_999}, status=422)["message"]
    )
