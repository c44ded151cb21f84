"""Shapes that lanes make, over HTTP: what is drawn, what is told of them, faults in their own places."""

import numpy as np
import pytest

from tests.server.test_api import api, unpack  # noqa: F401  (api is a fixture)
from tests.studies import data, lane

pytestmark = pytest.mark.django_db(transaction=True)
BALL = {"id": "ball", "name": "Ball", "kind": "sphere", "params": {"radius": 0.5}}
ROOM = {"id": "room", "name": "Room", "bounds": {"lower": [-1, -1, -1], "upper": [1, 1, 1]}, "voxel_size": 0.1}
D = lane("d", ("distance", {"shape": "ball"}))


def skin(**params):
    return {"id": "skin", "name": "Skin", "kind": "field_surface", "params": {"field": "d", "region": "room", **params}}


def look(api, *fields, **params):  # noqa: F811
    made = api("POST", "/studies", {"document": data(*(fields or (D,)), shapes=[BALL, skin(**params)], regions=[ROOM])})
    return unpack(api("POST", "/look/shapes", {"study": made["key"], "document": made["document"]}))


def test_the_surface_of_a_lane_is_drawn_and_told_of(api):  # noqa: F811
    facts, arrays = look(api, level=0.2)
    told = next(s for s in facts["shapes"] if s["id"] == "skin")
    radius = np.linalg.norm(arrays["skin.vertices"].reshape(-1, 3), axis=1)
    assert radius == pytest.approx(0.7, abs=0.02)
    assert told["upper"] == pytest.approx([0.7] * 3, abs=0.03)
    count = arrays["skin.faces"].size // 3
    assert told["about"].startswith(f"{count:,} triangles")
    assert "goes from -0.44" in told["about"], "blurred by half a voxel in the middle"
    assert next(s for s in facts["shapes"] if s["id"] == "ball")["about"] == ""


def test_what_makes_no_surface_is_told_in_its_place_and_the_rest_is_drawn(api):  # noqa: F811
    facts, arrays = look(api, level=5)
    assert "nowhere in the region" in facts["errors"]["shapes.skin"]
    assert "ball.vertices" in arrays
    facts, _ = look(api, lane("d", ("distance", {"shape": "skin"})))
    assert "skin → d → skin" in facts["errors"]["shapes.skin"]


def test_the_catalogue_has_it_with_its_parameters(api):  # noqa: F811
    entry = next(s for s in api("GET", "/catalogue")["shapes"] if s["id"] == "field_surface")
    params = {p["name"]: p for p in entry["params"]}
    assert params["field"]["required"]
    assert params["region"]["required"]
    assert params["inside"]["choices"] == ["below", "above"]


def test_a_shape_is_taken_away_as_a_file(api):  # noqa: F811
    made = api("POST", "/studies", {"document": data(D, shapes=[BALL, skin(level=0.2)], regions=[ROOM])})
    for format, starts in (("obj", b"#"), ("ply", b"ply"), ("vdb", b" BDV"), ("usd", b"PXR-USDC")):
        answer = api("POST", "/shape-files", {"study": made["key"], "shape": "skin", "format": format})
        content = b"".join(answer.streaming_content)
        assert content.startswith(starts), format
        assert len(content) > 5000
    told = api("POST", "/shape-files", {"study": made["key"], "shape": "none"}, status=422)
    assert "there is no shape 'none'" in str(told)
