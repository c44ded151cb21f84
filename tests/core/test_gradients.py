"""The exact gradient of every step against central differences, over random parameters and random lanes."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from errant_gust.core.fields.catalogue import STEPS
from errant_gust.core.fields.plan import sample
from tests.studies import central_differences, lane, node

OTHERS = (
    lane("m", ("mask_shape", {"shapes": ["ball"], "attenuation": 0.8})),
    lane("s", ("noise", {"octaves": 2, "feature_size": 1.4})),
    lane("v", ("curl_noise", {"octaves": 2, "seed": 9})),
)
SCALARS = {
    "noise": [("noise", {"octaves": 3, "roughness": 0.4, "evolve": 0.3})],
    "varying": [("noise", {"strength": {"field": "m"}})],
    "distance": [("distance", {"shape": "pillar"})],
    "distance_turned": [("distance", {"shape": "block", "offset": 0.1})],
    "mask_shape": [("mask_shape", {"shapes": ["ball", "block"], "attenuation": 1.1, "magnitude": 0.7})],
    "remap": [("noise", {}), ("remap", {"curve": [[0, 0], [0.3, 0.1], [0.7, 0.9], [1, 1]], "to_range": [2, 9]})],
    "limit": [("distance", {"shape": "ball"}), ("limit", {"most": 1.2, "soft": 0.8})],
    "gain": [("noise", {}), ("gain", {"factor": {"field": "m"}})],
    "multiply": [("noise", {}), ("multiply", {"field": "m"})],
    "add": [("distance", {"shape": "ball"}), ("add", {"field": "s", "amount": -0.5})],
    "use_field": [("use_field", {"field": "s"})],
}
VECTORS = {
    "wind": [("wind", {"speed": {"field": "m"}, "climb": 20})],
    "constant": [("constant", {"vector": [1, 2, 3]}), ("gain", {"factor": {"field": "s"}})],
    "curl_noise": [("curl_noise", {"octaves": 3})],
    "curl_noise_varying": [("curl_noise", {"strength": {"field": "s"}})],
    "curl": [("noise", {"makes": "vector"}), ("curl",)],
    "gradient": [("noise", {"octaves": 2}), ("gradient", {"strength": -2})],
    "axes": [("curl_noise",), ("axes", {"scale": [1, 0.5, 0]})],
    "limit": [("curl_noise",), ("limit", {"most": 0.8, "soft": 0.7})],
    "mask": [("curl_noise",), ("mask", {"by": "m"})],
    "mask_value": [("curl_noise",), ("mask", {"by": "m", "method": "by the value"})],
    "steer_around": [("wind",), ("add", {"field": "v"}), ("steer_around", {"shape": "ball"})],
    "slide": [("curl_noise",), ("steer_around", {"shape": "pillar", "method": "by sliding"})],
}
ALL = {**{f"S {k}": v for k, v in SCALARS.items()}, **{f"V {k}": v for k, v in VECTORS.items()}}


def agree(steps, seed: int, time: float = 0.6, most: float = 0.02) -> None:
    n = node(*steps, time=time, others=OTHERS)
    points = np.random.default_rng(seed).uniform(-1.6, 1.6, (3000, 3)).astype(np.float32)
    value, slope = sample(n, points, gradient=True)
    assert slope is not None
    assert np.isfinite(value).all()
    assert np.isfinite(slope).all()
    differences = central_differences(n, points, max(2e-3, 0.01 * n.feature))
    scale = np.abs(slope).mean() + 1e-3
    error = np.abs(differences - slope).reshape(len(points), -1).max(axis=1) / scale
    # kinks (edges of shapes, clamps, ends of masks) are where the gradient jumps: a few points may straddle one
    assert np.quantile(error, 0.95) < most, f"95 % of points within {most}, found {np.quantile(error, 0.95):.3g}"


@pytest.mark.parametrize("name", sorted(ALL))
def test_gradient_agrees_with_differences(name):
    agree(ALL[name], 3, most=0.05)


def test_every_step_has_a_gradient_case():
    named = {step[0] for steps in ALL.values() for step in steps}
    assert set(STEPS) - named <= {"bake"}, "bake's gradient is that of its interpolant, tested with grids"


@settings(max_examples=15)
@given(
    start=st.sampled_from(["noise", "distance", "mask_shape", "use_field"]),
    changes=st.lists(st.sampled_from(["gain", "remap", "limit", "multiply", "add"]), max_size=4),
    seed=st.integers(0, 10_000),
)
def test_gradient_of_random_scalar_lanes(start, changes, seed):
    params = {
        "noise": {"seed": seed, "feature_size": 1.5, "octaves": 2}, "distance": {"shape": "ball"},
        "mask_shape": {"shapes": ["pillar"], "attenuation": 1.0}, "use_field": {"field": "s"},
        "gain": {"factor": {"field": "m"}}, "remap": {"from_range": [-2, 3], "to_range": [0, 2]},
        "limit": {"most": 1.5, "soft": 0.9}, "multiply": {"field": "s"}, "add": {"field": "m"},
    }  # fmt: skip
    agree([(op, params[op]) for op in [start, *changes]], seed, most=0.08)
