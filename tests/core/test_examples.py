"""Pictures of steps and of their parameters."""

import numpy as np
import pytest

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.examples import example, figures
from errant_gust.core.study.registry import FIELD, steps_of
from tests.studies import node


@pytest.mark.parametrize("op", sorted(steps_of(FIELD)))
def test_pictures_of_parameters_are_finite_and_differ(op):
    for figure in figures(op, 24):
        pictures = [p for _, p in figure.pictures]
        assert len(pictures) >= 2, figure.param
        assert all(np.isfinite(p).all() for p in pictures), figure.param
        assert any(np.abs(p - pictures[0]).max() > 0 for p in pictures[1:]), figure.param
    assert example("from_grid") is None


def test_what_is_usual_is_among_the_values_and_looks_as_the_step_does():
    (size,) = [f for f in figures("noise", 48) if f.param == "feature_size"]
    pictures = dict(size.pictures)
    assert set(pictures) == {0.33, 1.0, 3.0}
    np.testing.assert_array_equal(pictures[1.0], example("noise", 48))
    rough = {value: np.abs(np.diff(p, axis=1)).mean() for value, p in pictures.items()}
    assert rough[0.33] > rough[1.0] > rough[3.0], "a smaller feature size is finer"


def test_choices_are_shown_each():
    (basis,) = [f for f in figures("curl_noise", 24) if f.param == "basis"]
    assert [value for value, _ in basis.pictures] == ["gradient", "simplex", "cells", "waves"]


def test_a_swirl_of_flat_cells_is_refused():
    with pytest.raises(StudyError, match="has no slope"):
        node(("surface_swirl", {"shape": "ball", "basis": "cells", "cells": "number"}))
