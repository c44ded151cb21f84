"""Liquid over HTTP: its points, its surface by the document as it stands, its foam, its numbers."""

import numpy as np
import pytest

from errant_gust.core.study.document import dump
from errant_gust.server import runs
from tests.liquids import ball, liquid, once
from tests.server.test_api import api, unpack, wait_for  # noqa: F401  (api is a fixture)

pytestmark = pytest.mark.django_db(transaction=True)
STEPS = (
    once("blob", velocity=[1, 0, 0], colour=[1, 0.5, 0]), ("gravity", {}), ("colour", {}),
    ("foam_points", {"over": [0.1, 0.2], "share": 0.5}), ("surface", {}),
)  # fmt: skip


@pytest.fixture
def pool(api):  # noqa: F811
    """A liquid study with a finished preview: (key, document, identity)."""
    p = liquid(*STEPS, h=0.04, room=((-0.5, -0.5, 0), (0.5, 0.5, 1)), shapes=[ball("blob", 0.2, (0, 0, 0.5))], end=4)
    made = api("POST", "/studies", {"document": dump(p.study)})
    run = api("POST", "/runs", {"study": made["key"], "flow": "w"})
    wait_for(api, made["key"], run["identity"])
    return made["key"], made["document"], run["identity"]


def test_points_a_volume_and_foam_are_fetched_by_name(api, pool):  # noqa: F811
    _, _, identity = pool
    head, arrays = unpack(api("GET", f"/runs/{identity}/frames/4/particles?channel=viscosity"))
    assert head["form"] == "points"
    assert {"speed", "viscosity", "age", "colour"} <= set(head["names"])
    assert not {"affine", "born_viscosity"} & set(head["names"])
    painted, arrays = unpack(api("GET", f"/runs/{identity}/frames/4/particles?channel=colour"))
    assert arrays["colours"].reshape(-1, 3).mean(axis=0) == pytest.approx([255, 127.5, 0], abs=1)
    foam, _ = unpack(api("GET", f"/runs/{identity}/frames/4/foam"))
    assert 0 < foam["count"] < painted["count"]
    volume, arrays = unpack(api("GET", f"/runs/{identity}/frames/4/volume?channel=distance"))
    assert volume["low"] < 0 < volume["tops"]["channel"]
    numbers = api("GET", f"/runs/{identity}/frames/4/particles/numbers?channel=speed")
    assert numbers["mean"] > 1
    assert runs.get(identity).state == "done"


def test_the_surface_is_drawn_by_the_document_as_it_stands(api, pool):  # noqa: F811
    key, doc, identity = pool
    path = f"/runs/{identity}/frames/4/drawn"

    def drawn(**surface):
        steps = [*doc["flows"][0]["steps"][:-1], {**doc["flows"][0]["steps"][-1], **surface}]
        looks = {"w": {"colour": surface.pop("colour", "thickness")}}
        changed = {**doc, "looks": looks, "flows": [{**doc["flows"][0], "steps": steps}]}
        return unpack(api("POST", path, {"study": key, "document": changed}))

    head, arrays = drawn()
    mesh = head["mesh"]
    assert mesh["channel"] == "thickness"
    assert mesh["unit"] == "m"
    assert {"speed", "age", "viscosity", "thickness", "colour"} <= set(mesh["names"])
    vertices = arrays["mesh.vertices"].reshape(-1, 3)
    assert np.abs(vertices.mean(axis=0) - [0.125, 0, 0.42]).max() < 0.05
    assert arrays["mesh.faces"].size == 3 * mesh["count"]
    assert np.linalg.norm(arrays["mesh.normals"].reshape(-1, 3).astype(float), axis=1).mean() == pytest.approx(
        127, abs=2
    )
    assert mesh["thickest"] == pytest.approx(0.4, abs=0.08)
    coarse, _ = drawn(params={"voxels": 2})
    assert coarse["mesh"]["count"] < mesh["count"] / 6
    off, arrays = drawn(on=False)
    assert off["mesh"] is None
    assert not [name for name in arrays if name.startswith("mesh.")]


@pytest.mark.parametrize(
    ("path", "words"),
    [
        ("frames/4/surface", "drawn from the study"),
        ("frames/4/particles?channel=thickness", "no channel 'thickness'"),
        ("export?what=surface&format=vdb", "not a format for surface"),
    ],
)
def test_what_is_not_there_is_said(api, pool, path, words):  # noqa: F811
    assert words in api("GET", f"/runs/{pool[2]}/{path}", status=422)["message"]
