"""What steps are to shapes, as the catalogue tells it: the interface draws and offers shapes by it."""

from errant_gust.core.listing import catalogue

STEPS = {(e["lane"], e["id"]): e for e in catalogue()["steps"]}
SHAPES = ("shape", "shapes")


def test_a_role_names_parameters_that_take_shapes():
    played = {"emits": 0, "blocks": 0}
    for entry in STEPS.values():
        types = {p["name"]: p["type"] for p in entry["params"]}
        for role, names in entry["roles"].items():
            played[role] += 1
            assert names, entry["id"]
            assert {types[name] for name in names} <= set(SHAPES), entry["id"]
    assert played["emits"] >= 5, "every kind has something that brings in"
    assert played["blocks"] >= 7


def test_what_a_field_is_led_around_blocks_and_what_it_flows_from_does_not():
    assert STEPS["field", "steer_around"]["roles"] == {"blocks": ["shape"]}
    assert STEPS["field", "potential_flow"]["roles"] == {"blocks": ["obstacles"]}, "inlets are no walls"
    assert STEPS["field", "distance"]["roles"] == {}
