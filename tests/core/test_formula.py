"""Formulas: right values and slopes, and every kind of bad one answered with the column."""

import time

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.errors import StudyError
from tests.studies import lane, node, values

F = np.float32
POINTS = np.random.default_rng(1).uniform(-2, 2, (500, 3)).astype(F)
S = lane("s", ("noise", {"octaves": 1}))
V = lane("v", ("curl_noise", {"octaves": 1}))


def of(expression, start=("constant", {"makes": "scalar", "value": 2}), **lanes):
    return node(start, ("formula", {"expression": expression, **lanes}), others=(S, V), time=0.5)


def test_ordinary_arithmetic():
    x, y, z = POINTS.T
    for text, expected in {
        "f": 2 + 0 * x, "1 + 2*3 - 4/8": 6.5 + 0 * x, "x^2 + y**3": x**2 + y**3, "-x": -x, "t": 0.5 + 0 * x,
        "sin(pi*x)*cos(y)": np.sin(np.pi * x) * np.cos(y), "exp(x) + log(abs(y)+1)": np.exp(x) + np.log(np.abs(y) + 1),
        "sqrt(x*x + y*y)": np.hypot(x, y), "min(x, y) + max(z, 0)": np.minimum(x, y) + np.maximum(z, 0),
        "clip(x, -0.5, 0.5)": np.clip(x, -0.5, 0.5), "where(x > y, 1, z)": np.where(x > y, 1, z),
    }.items():  # fmt: skip
        assert values(of(text), POINTS) == pytest.approx(expected, abs=2e-5), text


def test_other_lanes_and_vectors():
    s = values(node(("noise", {"octaves": 1})), POINTS)
    assert values(of("f * a", a="s"), POINTS) == pytest.approx(2 * s, abs=1e-6)
    v = values(node(("curl_noise", {"octaves": 1})), POINTS)
    assert values(of("-by, bx, a", a="s", b="v"), POINTS) == pytest.approx(
        np.stack([-v[:, 1], v[:, 0], s], 1), abs=1e-6
    )
    assert values(of("fx + fz", start=("constant", {"vector": [1, 2, 3]})), POINTS) == pytest.approx(4)


@pytest.mark.parametrize(
    "text", ["1/0", "x/(x-x)", "log(-1)", "sqrt(0-1)", "exp(exp(exp(x)*9))", "x^-3", "0^-2", "x^0.5"]
)
def test_nothing_is_ever_nan_or_infinite(text):
    points = np.concatenate([POINTS, np.zeros((1, 3), F)])
    n = of(text)
    assert np.isfinite(values(n, points)).all()
    assert np.isfinite(n.evaluate(np.ascontiguousarray(points.T), True).gradient).all()


@pytest.mark.parametrize(("text", "words"), [
    ("", "is empty"), ("sin(", "cannot be read"), ("x +* y", "cannot be read.*column"), ("q + 1", "'q'.*column 1"),
    ("1 + sine(x)", "did you mean 'sin'.*column 5"), ("__import__('os')", "function that is not known"),
    ("x.real", "may hold only"), ("(lambda: 1)()", "function that is not known"), ("[1,2]", "may hold only"),
    ("'a'", "numbers only"), ("9**9**9**9", "exponent"), ("2^x", "exponent"), ("1e99", "too large"), ("x @ y", "sign"),
    ("x, y", "one for a scalar or three"), ("sin(x, y)", "takes 1"), ("True", "numbers only"),
    ("x if y else z", "may hold"),
    ("+".join(["x"] * 150), "more than 200 parts"), ("x" * 700, "longer than"),
    ("(" * 90 + "x" + ")" * 90 + "+q", "'q'"),
    ("-" * 60 + "x", "nested too deeply"), ("fx", "'fx'"), ("f := 3", "cannot be read"),
])  # fmt: skip
def test_bad_formulas_say_what_and_where(text, words):
    start = time.perf_counter()
    with pytest.raises(StudyError, match=words):
        values(of(text), POINTS[:1])
    assert time.perf_counter() - start < 5, "no formula takes for ever"


@given(st.text(alphabet="xyzf()+-*/^.,0123456789 sincoexplg<>_[]'\"", max_size=60))
def test_any_text_is_a_number_or_a_clear_error(text):
    said = ""
    try:
        found = values(of(text), POINTS[:16])
    except StudyError as error:
        said = str(error)
    assert "formula" in said if said else np.isfinite(found).all()
