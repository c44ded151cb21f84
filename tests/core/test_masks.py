"""Masks: several shapes, which one wins, stencils, lingering, fading, retiming; bad outlines."""

import numpy as np
import pytest
from PIL import Image

from errant_gust.core.errors import FileError, GustError, StudyError
from errant_gust.core.fields import look
from errant_gust.core.fields.gridded import KEPT
from errant_gust.core.geometry.outlines import read_brightness, read_svg, text_outline
from errant_gust.core.geometry.shapes import Assets
from tests.studies import lane, node, plan, values

F = np.float32
TWO = [
    {"id": "a", "kind": "sphere", "params": {"radius": 0.5, "move": [-0.4, 0, 0]}},
    {"id": "b", "kind": "sphere", "params": {"radius": 0.5, "move": [0.4, 0, 0]}},
]
AT = F([[-0.6, 0, 0], [0, 0, 0], [0.6, 0, 0], [0, 0, 2]])


def mask(**params):
    return node(("mask_shape", {"shapes": ["a", "b"], "fade_over": 0.2, **params}), shapes=TWO)


def test_masks_add_up_or_the_strongest_wins_or_tell_which():
    assert values(mask(), AT) == pytest.approx([1, 2, 1, 0], abs=1e-5)
    assert values(mask(several="strongest wins"), AT) == pytest.approx([1, 1, 1, 0], abs=1e-5)
    assert values(mask(several="which one"), AT).tolist() == [1, 1, 2, 0]
    border = F([[-1.0, 0, 0]])
    assert values(mask(several="which one", threshold=0.0), border - F([0.09, 0, 0]))[0] == 1
    assert values(mask(several="which one", threshold=0.9), border - F([0.09, 0, 0]))[0] == 0


def test_noise_breaks_the_border(rng):
    points = rng.uniform(-1.5, 1.5, (20_000, 3)).astype(F)
    plain, ragged = (values(mask(several="which one", ragged=r, feature_size=0.3), points) for r in (0.0, 0.2))
    assert 0.003 < (plain != ragged).mean() < 0.3


def test_removing_a_shape_leaves_nothing_behind(rng):
    points = rng.uniform(-2, 2, (4000, 3)).astype(F)
    alone = node(("mask_shape", {"shapes": ["a"], "fade_over": 0.2}), shapes=TWO[:1])
    after = node(("mask_shape", {"shapes": ["a"], "fade_over": 0.2}), shapes=TWO)
    assert np.array_equal(values(alone, points), values(after, points))
    assert (values(node(("mask_shape", {"shapes": []})), points) == 0).all()


def sweep(fps, **linger):
    ramp = ("ramp", {"start": {"keys": [[0, [-2, 0, 0]], [2, [2, 0, 0]]], "between": "linear"},
                     "end": {"keys": [[0, [-1.4, 0, 0]], [2, [2.6, 0, 0]]], "between": "linear"},
                     "curve": [[0, 0], [0.5, 1], [1, 0]]})  # fmt: skip
    return plan(
        lane("heat", ramp, ("linger", {"region": "room", **linger})),
        regions=[{"id": "room", "bounds": {"lower": [-2, -0.2, -0.2], "upper": [2, 0.2, 0.2]}, "voxel_size": 0.05}],
        clock={"fps": fps, "start": 1, "end": 200},
    )


@pytest.mark.parametrize(("linger", "left"), [
    ({"loss": "by share", "share": 1.5}, lambda t: np.exp(-1.5 * t)),
    ({"loss": "by amount", "amount": 0.4}, lambda t: np.maximum(1 - 0.4 * t, 0)),
])  # fmt: skip
def test_what_a_sweep_has_passed_lingers_and_fades(linger, left):
    KEPT.clear()
    n = sweep(24, **linger).at(1.6).lane("heat")
    x = np.array([-1.2, -0.4, 0.4])
    passed = (x + 1.7) / 2  # when the sweep's crest was there
    found = values(n, np.stack([x, 0 * x, 0 * x], axis=1))
    assert found == pytest.approx(left(1.6 - passed), abs=0.06)
    assert values(n, F([[1.95, 0, 0]]))[0] == pytest.approx(0, abs=1e-3), "not yet there"


def test_lingering_does_not_depend_on_frames_a_second_or_on_what_was_looked_at_before(rng):
    points = np.stack([np.linspace(-1.9, 1.9, 200), np.zeros(200), np.zeros(200)], axis=1).astype(F)
    found = []
    for fps, first in ((12, None), (24, 0.7), (60, 1.9)):
        KEPT.clear()
        p = sweep(fps, loss="by share", share=1.0)
        if first is not None:
            values(p.at(first).lane("heat"), points)
        found.append(values(p.at(1.3).lane("heat"), points))
    assert np.array_equal(found[0], found[1])
    assert np.array_equal(found[0], found[2])


def test_fade_and_retime_are_what_they_say(rng):
    points = rng.uniform(-1, 1, (200, 3)).astype(F)
    steps = [("noise", {}), ("fade", {"begin": 1, "rise": 0.5, "end": 3, "fall": 1})]
    full = values(node(("noise", {})), points)
    for time, weight in ((0.5, 0), (1.25, 0.5), (1.8, 1), (2.5, 0.5), (3.1, 0)):
        assert values(node(*steps, time=time), points) == pytest.approx(weight * full, abs=1e-5)
    boiling = [("noise", {"evolve": 1.0})]
    later = values(node(*boiling, time=1.7), points)
    assert np.array_equal(values(node(*boiling, ("retime", {"speed": 2, "shift": 0.5}), time=0.6), points), later)


def test_a_stencil_of_text_covers_the_letters_and_nothing_else():
    (outline,) = text_outline("I")
    x, y = outline.T
    area = 0.5 * abs(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1))) / np.ptp(y) ** 2
    n = node(("stencil", {"text": "I", "height": 2.0, "depth": 0.5, "soft": 0.02, "centre": [0, 0, 0]}))
    x, z = np.meshgrid(np.linspace(-1.5, 1.5, 301), np.linspace(-1.5, 1.5, 301))
    flat = values(n, np.stack([x.ravel(), 0 * x.ravel(), z.ravel()], axis=1))
    assert (flat > 0.999).mean() * 9 == pytest.approx(2.0**2 * area, rel=0.04)
    assert values(n, F([[0, 0.3, 0], [0, -0.24, 0]])) == pytest.approx([0, 1], abs=1e-3)


def test_svg_and_image_stencils(tmp_path):
    (tmp_path / "ring.svg").write_text(
        '<svg xmlns="http://www.w3.org/2000/svg"><circle cx="5" cy="5" r="5"/><circle cx="5" cy="5" r="2"/></svg>'
    )
    step = {"source": "file", "height": 2.0, "depth": 1, "soft": 0.05, "centre": [0, 0, 0]}
    n = node(("stencil", {**step, "file": "ring.svg"}), assets=Assets(tmp_path))
    assert values(n, F([[0.7, 0, 0], [0, 0, 0], [0, 0, -0.7], [1.3, 0, 0]])) == pytest.approx([1, 0, 1, 0], abs=1e-3)
    picture = np.zeros((40, 40), np.uint8)
    picture[:20] = 255  # the upper half
    Image.fromarray(picture).save(tmp_path / "half.png")
    n = node(("stencil", {**step, "file": "half.png"}), assets=Assets(tmp_path))
    assert values(n, F([[0, 0, 0.5], [0, 0, -0.5], [0, 0, 3]])) == pytest.approx([1, 0, 0], abs=0.02)


@pytest.mark.parametrize(("text", "words"), [
    ('<svg xmlns="http://www.w3.org/2000/svg"><script>x()</script><path d="M0 0L1 0L1 1"/></svg>', "script"),
    ('<!DOCTYPE svg [<!ENTITY a "b">]><svg/>', "not taken"),
    ('<svg xmlns="http://www.w3.org/2000/svg"><path onload="x()" d="M0 0L1 0L1 1"/></svg>', "onload"),
    ('<svg xmlns="http://www.w3.org/2000/svg"><image href="http://example.invalid/a.png"/></svg>', "image"),
    ('<svg xmlns="http://www.w3.org/2000/svg"></svg>', "no path"),
    ("<svg><path d='M0 0", "cannot be read"),
])  # fmt: skip
def test_svgs_with_scripts_or_entities_or_nothing_are_refused(tmp_path, text, words):
    (tmp_path / "a.svg").write_text(text)
    with pytest.raises(FileError, match=words):
        read_svg(tmp_path / "a.svg")


def test_an_image_bomb_and_a_broken_image_are_refused(tmp_path):
    Image.new("1", (12_000, 12_000)).save(tmp_path / "bomb.png")
    assert (tmp_path / "bomb.png").stat().st_size < 100_000
    with pytest.raises(FileError, match="too many"):
        read_brightness(tmp_path / "bomb.png")
    (tmp_path / "broken.png").write_bytes((tmp_path / "bomb.png").read_bytes()[:200] + b"\0" * 50)
    with pytest.raises(FileError, match=r"cannot be read|too many"):
        read_brightness(tmp_path / "broken.png")


@pytest.mark.parametrize(("params", "words"), [
    ({"text": ""}, "no text"), ({"text": "\u4e2d"}, "no '\u4e2d'"), ({"source": "file"}, "no file"),
    ({"source": "file", "file": "../a.svg"}, "plain file name"),
])  # fmt: skip
def test_stencils_without_anything_in_them_say_so(params, words, tmp_path):
    with pytest.raises(GustError, match=words):
        values(node(("stencil", params), assets=Assets(tmp_path)), np.zeros((1, 3)))


def test_lingering_on_a_region_that_follows_is_refused():
    regions = [{"id": "room", "bounds": {"fit": ["ball"], "padding": 1}, "follow": True}]
    with pytest.raises(StudyError, match="follows"):
        values(node(("noise", {}), ("linger", {"region": "room"}), regions=regions), np.zeros((1, 3)))


def test_a_stencil_is_seen_from_its_front_where_the_slice_shows_nothing_of_it():
    words = ("stencil", {"text": "GUST", "height": 0.4, "depth": 0.1, "soft": 0.02, "centre": [0, 0, 1.2],
                         "turn": [0, 0, 90]})  # fmt: skip
    scene = plan(lane("a", words, ("gain", {"factor": 2.0}))).at(0.0)
    nodes = [n for _, n in scene.steps("a")]
    nodes[-1].prepare()
    common = look.Window((-2, -2, -1), (4, 0, 0), (0, 4, 0))
    first, second = look.swatches(nodes, common, 64)
    inked = float((first > 0.5).mean())
    assert 0.03 < inked < 0.4, "letters, not nothing and not a block"
    np.testing.assert_allclose(second, 2 * first, rtol=1e-5)
    through = look.Window((-2, -2, 1.2), (4, 0, 0), (0, 4, 0))
    assert np.ptp(look.swatches(nodes, through, 64)[0]) > 0.5
    assert float((look.swatches(nodes, through, 64)[0] > 0.5).mean()) < 0.05, "a slice that meets it stays the slice"
