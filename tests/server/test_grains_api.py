"""Grains over HTTP: points with where the heap looks, the packing, a surface by the document as it stands."""

from importlib import import_module

import numpy as np
import pytest

from errant_gust.core.study.document import dump
from errant_gust.server import runs
from tests.grainy import grains
from tests.liquids import box
from tests.server.test_api import api, unpack, wait_for  # noqa: F401  (api is a fixture)

pytestmark = pytest.mark.django_db(transaction=True)
HEAP = box("heap", (-0.3, -0.3, 0), (0.3, 0.3, 0.2))


@pytest.fixture
def heap(api):  # noqa: F811
    """A study of a heap with a finished preview: (key, document, identity)."""
    source = ("source", {"shape": "heap", "colour": [1, 0.5, 0]})
    steps = (source, ("gravity", {}), ("colour", {}), ("surface", {}))
    p = grains(*steps, spacing=0.025, room=((-0.5, -0.5, 0), (0.5, 0.5, 0.5)), shapes=[HEAP], end=4)
    made = api("POST", "/studies", {"document": dump(p.study)})
    run = api("POST", "/runs", {"study": made["key"], "flow": "w"})
    wait_for(api, made["key"], run["identity"])
    return made["key"], made["document"], run["identity"]


def test_grains_their_packing_and_where_a_heap_looks_are_fetched_by_name(api, heap):  # noqa: F811
    _, _, identity = heap
    head, arrays = unpack(api("GET", f"/runs/{identity}/frames/4/grains?channel=pressure"))
    assert head["form"] == "points"
    assert head["unit"] == "Pa"
    assert head["spacing"] == pytest.approx(0.05)
    assert {"speed", "pressure", "packing", "age", "colour"} <= set(head["names"])
    assert not {"affine", "strain", "spread", "outward"} & set(head["names"])
    count = head["count"]
    place = arrays["position"].reshape(count, 3) / 65535 * (np.subtract(head["upper"], head["lower"])) + head["lower"]
    out = arrays["outward"].reshape(count, 3) / 127
    top = (place[:, 2] > 0.15) & (np.abs(place[:, :2]).max(axis=1) < 0.15)
    assert out[top, 2].mean() > 0.6
    assert (np.linalg.norm(out, axis=1) < 1.02).all()
    assert (arrays["left"] == 255).all(), "what has no life stays"
    _, arrays = unpack(api("GET", f"/runs/{identity}/frames/4/grains?channel=colour"))
    assert arrays["colours"].reshape(-1, 3).mean(axis=0) == pytest.approx([255, 127.5, 0], abs=1)
    packing, _ = unpack(api("GET", f"/runs/{identity}/frames/4/packing?channel=packing"))
    assert 0.9 < packing["tops"]["channel"] < 1.3
    numbers = api("GET", f"/runs/{identity}/frames/4/grains/numbers?channel=packing")
    assert 0.5 < numbers["mean"] < 1.1
    assert runs.get(identity).state == "done"


def test_the_surface_is_drawn_by_the_document_as_it_stands(api, heap):  # noqa: F811
    key, doc, identity = heap
    sizes = []
    for voxels in (0.5, 1.0):
        steps = [*doc["flows"][0]["steps"][:-1], {**doc["flows"][0]["steps"][-1], "params": {"voxels": voxels}}]
        changed = {**doc, "looks": {"w": {"colour": "pressure"}}, "flows": [{**doc["flows"][0], "steps": steps}]}
        body = {"study": key, "document": changed}
        head, arrays = unpack(api("POST", f"/runs/{identity}/frames/4/drawn", body))
        mesh = head["mesh"]
        assert {"speed", "pressure", "packing", "thickness", "colour"} <= set(mesh["names"])
        assert mesh["unit"] == "Pa"
        vertices = arrays["mesh.vertices"].reshape(-1, 3)
        assert np.abs(vertices).max() < 0.45
        sizes.append(mesh["count"])
    assert sizes[0] > 2.5 * sizes[1]


def test_half_steps_are_told_in_metres_and_in_share_and_given_up_in_words(api, heap, monkeypatch):  # noqa: F811
    _, _, identity = heap
    (told,) = api("GET", f"/runs/{identity}/halves/2")
    assert told["of"] == "grains"
    assert told["count"] > 500
    assert told["substeps"] > 1
    assert 0 < told["middle"] < 0.1 * told["way"]
    assert told["share"] == pytest.approx(told["middle"] / told["way"])
    monkeypatch.setattr(import_module("errant_gust.server.api.runs"), "LONGEST", 0.0)
    said = api("GET", f"/runs/{identity}/halves/2", status=503)
    assert "take longer than" in said["what"]
    assert "gust halves RUN_DIR --frame 2" in said["fix"]


def test_the_kind_is_in_the_catalogue_with_its_words(api):  # noqa: F811
    made = next(k for k in api("GET", "/catalogue")["kinds"] if k["id"] == "grains")
    assert made["unit"] == "grains"
    assert [r["form"] for r in made["results"]] == ["points", "volume", "mesh"]
    assert [s["op"] for s in made["begins_with"]] == ["domain", "source", "gravity", "friction"]
    looks = {p["name"]: p["default"] for p in made["looks"]["points"]}
    assert looks["blend"] == "lit"
    assert looks["shadow"] is True
