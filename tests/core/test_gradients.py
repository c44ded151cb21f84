"""The exact gradient of every step against central differences, over random parameters and random lanes."""

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from errant_gust.core.fields.sampling import sample
from errant_gust.core.files.volume_files import write_npz
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study.registry import FIELD, steps_of
from tests.studies import SHAPES, central_differences, lane, node

OTHERS = (
    lane("m", ("mask_shape", {"shapes": ["ball"], "fade_over": 0.8})),
    lane("s", ("noise", {"octaves": 2, "feature_size": 1.4})),
    lane("v", ("curl_noise", {"octaves": 2, "seed": 9})),
    lane(
        "size",
        ("mask_shape", {"shapes": ["ball"], "fade_over": 2}),
        ("remap", {"from_range": [0, 1], "to_range": [1, 2]}),
    ),
    lane("d2", ("distance", {"shape": "block"})),
)
SHAPES_TOO = [
    *SHAPES,
    {"id": "path", "kind": "curve", "params": {
     "points": [[-1.4, 0, 0], [-0.3, 0.5, 0.3], [0.5, -0.4, 0], [1.4, 0.2, -0.3]],
     "radius": 0.5, "widths": [[0, 1], [0.5, 0.6], [1, 1.2]]}},
    {"id": "ring", "kind": "torus", "params": {}},
    {"id": "rod", "kind": "capsule", "params": {"radius": 0.5}},
    {"id": "cone", "kind": "cone", "params": {"high": 0.2}},
]  # fmt: skip
FLOWS = [
    {
        **lane("p", ("emit", {"shape": "ball", "timing": "all at once", "count": 4000}), ("carry", {"field": "v"})),
        "kind": "particles",
    }
]
SCALARS = {
    "noise": [("noise", {"octaves": 3, "roughness": 0.4, "evolve": 0.3})],
    "varying": [("noise", {"strength": {"field": "m"}})],
    "distance": [("distance", {"shape": "pillar"})],
    "distance_turned": [("distance", {"shape": "block", "offset": 0.1})],
    "mask_shape": [("mask_shape", {"shapes": ["ball", "block"], "fade_over": 1.1, "strength": 0.7})],
    "remap": [("noise", {}), ("remap", {"curve": [[0, 0], [0.3, 0.1], [0.7, 0.9], [1, 1]], "to_range": [2, 9]})],
    "limit": [("distance", {"shape": "ball"}), ("limit", {"most": 1.2, "soft": 0.8})],
    "gain": [("noise", {}), ("gain", {"factor": {"field": "m"}})],
    "multiply": [("noise", {}), ("multiply", {"field": "m"})],
    "add": [("distance", {"shape": "ball"}), ("add", {"field": "s", "amount": -0.5})],
    "use_field": [("use_field", {"field": "s"})],
    "simplex": [("noise", {"basis": "simplex", "octaves": 2, "evolve": 0.3})],
    "waves": [("noise", {"basis": "waves", "octaves": 2, "evolve": 0.3})],
    "cells": [("noise", {"basis": "cells", "octaves": 1, "evolve": 0.3})],
    "cells_border": [("noise", {"basis": "cells", "cells": "border", "octaves": 1})],
    "varying_size": [("noise", {"feature_size": {"field": "size"}, "drift": [0.2, 0, 0]})],
    "ramp": [("ramp", {"start": [-1, 0, 0.2], "end": [1, 0.4, 0], "curve": [[0, 0], [0.4, 0.2], [1, 1]]})],
    "clock": [("clock", {"rate": 2}), ("multiply", {"field": "s"})],
    "distance_curve": [("distance", {"shape": "path"})],
    "distance_torus": [("distance", {"shape": "ring"})],
    "distance_capsule": [("distance", {"shape": "rod"})],
    "distance_cone": [("distance", {"shape": "cone"})],
    "mask_strongest": [("mask_shape", {"shapes": ["ball", "block"], "fade_over": 1.1, "several": "strongest wins"})],
    "mask_ragged": [("mask_shape", {"shapes": ["ball"], "fade_over": 1.1, "ragged": 0.2, "octaves": 1})],
    "stencil": [("stencil", {"text": "Kiln", "height": 1.2, "soft": 0.6, "centre": [0, 0, 0]})],
    "offset": [("distance", {"shape": "ball"}), ("offset", {"by": {"field": "m"}, "shell": True})],
    "roughen": [("distance", {"shape": "ball"}), ("roughen", {"depth": 0.2, "octaves": 2})],
    "threshold": [("noise", {}), ("threshold", {"soft": 0.5, "keep": "the value", "level": {"field": "m"}})],
    "flip_invert": [("noise", {}), ("flip",), ("invert",)],
    "magnitude": [("curl_noise", {"octaves": 2}), ("magnitude",)],
    "component": [("curl_noise", {"octaves": 2}), ("component", {"axis": "y"})],
    "divergence": [("noise", {"makes": "vector", "octaves": 1}), ("divergence",)],
    "fade": [("noise", {}), ("fade", {"begin": 0.4, "rise": 0.5})],
    "warp": [("noise", {}), ("warp", {"by": "v", "amount": 0.2})],
    "place": [("noise", {}), ("place", {"move": [0.1, 0, 0], "turn": [10, 20, 30], "scale": 1.3})],
    "twist": [("noise", {}), ("twist", {"rate": 60})],
    "retime": [("noise", {"evolve": 1}), ("retime", {"speed": 0.5, "shift": 0.2})],
    "subtract": [("noise", {}), ("subtract", {"field": "m"})],
    "mix": [("noise", {}), ("mix", {"field": "m", "weight": {"field": "s"}})],
    "replace": [("noise", {}), ("replace", {"field": "s", "where": "m"})],
    "least": [("noise", {}), ("least", {"field": "s"})],
    "greatest": [("noise", {}), ("greatest", {"field": "s"})],
    "strongest": [("noise", {}), ("strongest", {"field": "s"})],
    "dot": [("curl_noise", {"octaves": 2}), ("dot", {"field": "v"})],
    "join_round": [("distance", {"shape": "ball"}), ("join", {"field": "d2", "width": 0.4})],
    "join_bevel": [("distance", {"shape": "ball"}), ("join", {"field": "d2", "how": "cut", "seam": "bevel"})],
    "formula": [
        ("noise", {}),
        ("formula", {"expression": "sin(3*x)*f + sqrt(abs(a)+0.1)/(1+y^2) + max(z, t)", "a": "s"}),
    ],
    "smooth": [("noise", {"octaves": 1}), ("smooth", {"region": "room", "width": 0.3, "outside": "clamp"})],
    "linger": [("noise", {"octaves": 1}), ("linger", {"region": "room", "outside": "clamp", "step": 0.3})],
    "from_grid": [("from_grid", {"file": "wave.npz", "interpolation": "cubic", "outside": "clamp"})],
    "from_particles": [("from_particles", {"flow": "p", "region": "room", "radius": 0.6})],
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
    "curl_simplex": [("curl_noise", {"basis": "simplex", "octaves": 2})],
    "curl_waves": [("curl_noise", {"basis": "waves", "octaves": 2})],
    "curl_normal": [("curl_noise", {"plane": "across a normal", "normal": [1, 1, 0.5]})],
    "curl_of_scalar": [("noise", {"octaves": 2}), ("curl", {"normal": [0, 1, 1]})],
    "curl_size": [("curl_noise", {"feature_size": {"field": "size"}})],
    "vortex": [("vortex", {"axis": [0.2, 0, 1], "lift": 0.6})],
    "radial": [("radial", {"centre": [0.1, 0, 0], "reach": 2})],
    "radial_source": [("radial", {"falloff": "inverse square", "way": "inward"})],
    "spline_flow": [("spline_flow", {"curve": "path", "reach": 1.2, "around": 0.7, "strength": [[0, 0.5], [1, 1]]})],
    "spline_flow_on": [("spline_flow", {"curve": "path", "reach": 1.2, "ends": "run on", "width": [[0, 1], [1, 0.6]]})],
    "bore_flow": [("bore_flow", {"curve": "path", "spin": 1.5, "outside": 3})],
    "unit_length": [("curl_noise", {"octaves": 2}), ("unit_length", {"floor": 0.2})],
    "keep_inside": [("curl_noise", {"octaves": 2}), ("keep_inside", {"shape": "ball", "reach": 0.5})],
    "cross": [("curl_noise", {"octaves": 2}), ("cross", {"field": "v"})],
    "place_v": [("curl_noise", {"octaves": 2}), ("place", {"turn": [10, 20, 30]})],
    "twist_v": [("curl_noise", {"octaves": 2}), ("twist", {"rate": 60})],
    "warp_v": [("curl_noise", {"octaves": 2}), ("warp", {"by": "v", "amount": 0.1})],
    "formula_v": [("curl_noise", {"octaves": 2}), ("formula", {"expression": "-fy, fx*a, z", "a": "s"})],
    "surface_swirl": [("surface_swirl", {"shape": "ball", "reach": 1.5, "nearest": 40})],
    "surface_drift": [("surface_drift", {"shape": "ball", "reach": 1.5, "nearest": 40})],
    "divergence_free": [("noise", {"makes": "vector", "octaves": 1}), ("divergence_free", {"region": "room"})],
    "potential_flow": [("potential_flow", {"region": "room", "obstacles": ["ball"]})],
    "slide": [("curl_noise",), ("steer_around", {"shape": "pillar", "method": "by sliding"})],
}
ALL = {**{f"S {k}": v for k, v in SCALARS.items()}, **{f"V {k}": v for k, v in VECTORS.items()}}


def grid_file(folder: Path) -> Assets:
    """A coarse grid of a smooth wave as a volume file of the study."""
    region = GridRegion((-2, -2, -2), (20, 20, 20), 0.2)
    x, y, z = region.centres(0, region.voxels)
    write_npz(folder / "wave.npz", {"wave": Grid(region, (np.sin(x + y) * np.cos(z)).reshape(region.shape))})
    return Assets(folder)


@pytest.fixture(scope="module")
def assets(tmp_path_factory):
    return grid_file(tmp_path_factory.mktemp("grids"))


def agree(steps, seed: int, assets=None, time: float = 0.6, most: float = 0.02, share: float = 0.95) -> None:
    n = node(*steps, time=time, others=OTHERS, shapes=SHAPES_TOO, flows=FLOWS, assets=assets)
    points = np.random.default_rng(seed).uniform(-1.6, 1.6, (3000, 3)).astype(np.float32)
    value, slope = sample(n, points, gradient=True)
    assert slope is not None
    assert np.isfinite(value).all()
    assert np.isfinite(slope).all()
    differences = central_differences(n, points, max(2e-3, 0.01 * n.feature))
    scale = np.abs(slope).mean() + 1e-3
    error = np.abs(differences - slope).reshape(len(points), -1).max(axis=1) / scale
    # kinks (edges of shapes, clamps, ends of masks) are where the gradient jumps: a few points may straddle one
    found = np.quantile(error, share)
    assert found < most, f"{share:.0%} of points within {most}, found {found:.3g}"


# grids: their gradient jumps at every cell; surfaces: it is itself a difference, of nearest samples that change
LOOSE = {"S linger": 0.7, "S from_particles": 0.7, "S smooth": 0.3, "V divergence_free": 0.5, "V potential_flow": 0.6,
         "V surface_swirl": 0.6, "V surface_drift": 0.6, "V twist_v": 0.1}  # fmt: skip


# full of places where the gradient jumps: borders between cells, the middles of letters
KINKED = {"S cells_border": 0.85, "S stencil": 0.8}


@pytest.mark.parametrize("name", sorted(ALL))
def test_gradient_agrees_with_differences(name, assets):
    agree(ALL[name], 3, assets, most=LOOSE.get(name, 0.05), share=KINKED.get(name, 0.95))


def test_every_step_has_a_gradient_case():
    named = {step[0] for steps in ALL.values() for step in steps}
    assert set(steps_of(FIELD)) - named <= {"bake", "from_run"}, "tested with grids and with runs"


@settings(max_examples=15)
@given(
    start=st.sampled_from(["noise", "distance", "mask_shape", "use_field"]),
    changes=st.lists(st.sampled_from(["gain", "remap", "limit", "multiply", "add"]), max_size=4),
    seed=st.integers(0, 10_000),
)
def test_gradient_of_random_scalar_lanes(start, changes, seed):
    params = {
        "noise": {"seed": seed, "feature_size": 1.5, "octaves": 2}, "distance": {"shape": "ball"},
        "mask_shape": {"shapes": ["pillar"], "fade_over": 1.0}, "use_field": {"field": "s"},
        "gain": {"factor": {"field": "m"}}, "remap": {"from_range": [-2, 3], "to_range": [0, 2]},
        "limit": {"most": 1.5, "soft": 0.9}, "multiply": {"field": "s"}, "add": {"field": "m"},
    }  # fmt: skip
    agree([(op, params[op]) for op in [start, *changes]], seed, most=0.08)
