"""Growth over HTTP: its surface, its numbers, two of them against each other, what the catalogue says of its look."""

import numpy as np
import pytest

from errant_gust.core.study.document import dump
from tests.growths import growth
from tests.liquids import ball
from tests.server.test_api import api, unpack, wait_for  # noqa: F401  (api is a fixture)

pytestmark = pytest.mark.django_db(transaction=True)


def grown(api, speed, end=4):  # noqa: F811
    p = growth(("seed", {"shape": "seed"}), ("spread", {"speed": speed}), ("surface", {"smooth": 2}),
               shapes=[ball("seed", 0.3, (0, 0, 0))], end=end, domain={"preview_voxels": 1})  # fmt: skip
    made = api("POST", "/studies", {"document": dump(p.study)})
    run = api("POST", "/runs", {"study": made["key"], "flow": "g"})
    wait_for(api, made["key"], run["identity"])
    return made["key"], made["document"], run["identity"]


def test_the_surface_is_the_main_result_and_is_coloured_by_age_and_speed(api):  # noqa: F811
    key, doc, identity = grown(api, 1.0)
    head, arrays = unpack(api("GET", f"/runs/{identity}/frames/4/mesh?channel=age"))
    assert head["form"] == "mesh"
    assert (head["unit"], set(head["names"])) == ("s", {"age", "thickness", "speed"})
    radius = np.linalg.norm(arrays["vertices"].reshape(-1, 3), axis=1)
    assert radius == pytest.approx(0.3 + 3 / 24, abs=0.01)
    assert len(arrays["tone"]) == len(radius)
    numbers = api("GET", f"/runs/{identity}/frames/4/mesh/numbers?channel=speed")
    assert numbers["mean"] == pytest.approx(1.0, abs=0.05)
    assert numbers["count"] == len(radius)
    path = f"/runs/{identity}/frames/4/drawn"
    drawn, _ = unpack(api("POST", path, {"study": key, "document": {**doc, "looks": {"g": {"colour": "age"}}}}))
    assert drawn["mesh"]["unit"] == "s"
    volume, _ = unpack(api("GET", f"/runs/{identity}/frames/4/volume?channel=distance"))
    assert volume["low"] < 0


def test_two_are_compared_by_their_distances_and_far_away_they_are_alike(api):  # noqa: F811
    one, two = grown(api, 1.0)[2], grown(api, 2.0, end=5)[2]
    for channel in ("speed", "distance"):  # the surface has a speed, the volume has none: distances are taken
        head, _ = unpack(api("GET", f"/compare?a={one}&b={two}&frame=4&of={channel}"))
        numbers = head["numbers"]
        assert numbers["greatest"] == pytest.approx(3 / 24, abs=0.06)
        assert numbers["mean"] < 0
    apart, _ = unpack(api("GET", f"/compare?a={one}&b={one}&frame=4&of=speed&to=age"))
    assert apart["numbers"]["same"]  # a speed less an age is nothing: surfaces are compared
    same, _ = unpack(api("GET", f"/compare?a={one}&b={one}&frame=4&of=age"))
    assert same["numbers"]["same"]


def test_its_look_offers_what_a_surface_alone_can_show(api):  # noqa: F811
    kind = next(k for k in api("GET", "/catalogue")["kinds"] if k["id"] == "growth")
    rows = {p["name"]: p for p in kind["looks"]["mesh"]}
    assert "draw" not in rows
    assert rows["colour"]["default"] == "age"
    assert rows["colour"]["when"] == {"paint": ["channel"]}
    assert rows["first"]["when"] == {"paint": ["channel"], "map": ["mix"]}
    liquid = next(k for k in api("GET", "/catalogue")["kinds"] if k["id"] == "liquid")
    assert {"draw", "paint"} <= {p["name"] for p in liquid["looks"]["mesh"]}
    assert "colour" not in {p["name"] for p in liquid["looks"]["mesh"]}
