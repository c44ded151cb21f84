"""Gas frames to look at, two of them compared, and what a run will cost: over HTTP."""

import io
import zipfile

import numpy as np
import pytest

from errant_gust.core.runs.frame_store import RunStore
from errant_gust.server import runs
from tests.core.test_gas import BALL, PUFF, gas
from tests.server.test_api import api, unpack, wait_for  # noqa: F401  (api is a fixture)

pytestmark = pytest.mark.django_db(transaction=True)
GLOW = ("channel", {"name": "glow", "copies": "temperature", "rate": 0.2})


@pytest.fixture
def smoke(api):  # noqa: F811
    """A gas study with a finished preview: (key, document, identity)."""
    steps = (PUFF, ("rise", {}), ("cool", {"rate": 2}), GLOW, ("formula", {
        "channel": "signed", "expression": "temperature - 100", "clamp": "no"}))  # fmt: skip
    data = gas(*steps, shapes=(BALL,), end=5).study.model_dump(mode="json", by_alias=True)
    made = api("POST", "/studies", {"document": data})
    run = api("POST", "/runs", {"study": made["key"], "flow": "g"})
    wait_for(api, made["key"], run["identity"])
    return made["key"], made["document"], run["identity"]


def test_texels_are_shares_of_what_the_frame_holds(api, smoke):  # noqa: F811
    _, _, identity = smoke
    facts, arrays = unpack(api("GET", f"/runs/{identity}/frames/4/volume?channel=glow"))
    stored = RunStore(runs.folder_of(identity)).read(4)
    nx, ny, nz = facts["shape"]
    assert stored["density"].shape == (nx, ny, nz)
    assert facts["names"] == ["density", "glow", "signed", "temperature", "vel"]
    for name, channel in (("density", "density"), ("temperature", "temperature"), ("channel", "glow")):
        texels = arrays[name].reshape(nz, ny, nx).transpose(2, 1, 0) / 255 * facts["tops"][name]
        np.testing.assert_allclose(texels, stored[channel], atol=0.51 / 255 * facts["tops"][name])
    light = arrays["light"].reshape(nz, ny, nx)
    assert light.max() == 255, "what nothing shades is fully lit"
    assert light.min() < 200, "smoke shades what is behind it"
    darker = unpack(api("GET", f"/runs/{identity}/frames/4/volume?absorb=60"))[1]["light"]
    assert darker.sum() < arrays["light"].sum()
    np.testing.assert_allclose(facts["size"], np.array(facts["shape"]) * facts["voxel_size"])


def test_a_signed_channel_keeps_its_sign_and_the_velocity_is_its_speed(api, smoke):  # noqa: F811
    _, _, identity = smoke
    facts, arrays = unpack(api("GET", f"/runs/{identity}/frames/4/volume?channel=signed"))
    stored = RunStore(runs.folder_of(identity)).read(4)["signed"]
    assert facts["low"] == pytest.approx(-100)
    span = facts["tops"]["channel"] - facts["low"]
    nx, ny, nz = facts["shape"]
    texels = arrays["channel"].reshape(nz, ny, nx).transpose(2, 1, 0) / 255 * span + facts["low"]
    np.testing.assert_allclose(texels, stored, atol=0.51 / 255 * span)
    speed = unpack(api("GET", f"/runs/{identity}/frames/4/volume?channel=vel"))[0]
    faces = RunStore(runs.folder_of(identity)).read(4)
    assert 0 < speed["tops"]["channel"] <= np.sqrt(sum(np.abs(faces[k]).max() ** 2 for k in "uvw")) + 1e-6


def test_two_channels_differ_by_what_their_arrays_do(api, smoke):  # noqa: F811
    _, _, identity = smoke
    facts, arrays = unpack(api("GET", f"/compare?a={identity}&b={identity}&frame=5&of=temperature&to=glow"))
    stored = RunStore(runs.folder_of(identity)).read(5)
    d = stored["glow"] - stored["temperature"]
    assert facts["numbers"]["greatest"] == pytest.approx(np.abs(d).max())
    nx, ny, nz = facts["shape"]
    top = facts["tops"]["channel"]
    low = facts["low"]
    texels = arrays["channel"].reshape(nz, ny, nx).transpose(2, 1, 0) / 255 * (top - low) + low
    assert np.abs(texels[d == 0]).max(initial=0) < 1e-9 * top, "nothing is exactly nothing"
    np.testing.assert_allclose(texels, d, atol=1.02 * top / 255)
    same = unpack(api("GET", f"/compare?a={identity}&b={identity}&frame=5"))[0]
    assert same["numbers"]["same"]
    numbers = api("GET", f"/runs/{identity}/frames/5/volume/numbers?channel=glow")
    assert numbers["high"] == pytest.approx(float(stored["glow"].max()))
    assert numbers["total"] == pytest.approx(float(stored["glow"].sum(dtype=float)) * 0.2**3, rel=1e-4)
    assert numbers["centre"][2] > 0.3
    smoke_numbers = api("GET", f"/runs/{identity}/frames/5/volume/numbers")
    assert smoke_numbers["high"] == pytest.approx(float(stored["density"].max()))


@pytest.mark.parametrize(
    ("path", "words"),
    [
        ("/runs/{i}/frames/99/volume", "frame 99 is not there"),
        ("/runs/{i}/frames/4/volume?channel=glov", "no channel 'glov'"),
        ("/runs/{i}/frames/4/volume/numbers?channel=glov", "no channel 'glov'"),
        ("/runs/{i}/frames/99/volume/numbers?channel=glow", "it has 1 to 5"),
        ("/compare?a={i}&b={i}&frame=99", "it has 1 to 5"),
        ("/compare?a={i}&b={i}&frame=5&to=glov", "no channel 'glov'"),
    ],
)
def test_what_is_not_there_is_said(api, smoke, path, words):  # noqa: F811
    assert words in api("GET", path.format(i=smoke[2]), status=422)["message"]
    missing = api("GET", path.format(i="0" * 24), status=404)
    assert "there is no run" in missing["message"]


def test_the_cost_of_the_full_run_follows_from_the_preview_and_the_voxel_size(api, smoke):  # noqa: F811
    key, document, _ = smoke
    full = api("POST", "/look/estimate", {"study": key, "document": document, "quality": "full"})["g"]
    assert full["basis"] == "the preview run"
    assert full["frames"] == 5
    assert full["measured"] == 4
    assert full["seconds"] > 0
    preview = api("POST", "/look/estimate", {"study": key, "document": document, "quality": "preview"})["g"]
    assert preview["frames"] == 0
    assert preview["seconds"] == 0
    document["regions"][0]["voxel_size"] = 0.05
    finer = api("POST", "/look/estimate", {"study": key, "document": document, "quality": "full"})["g"]
    assert finer["seconds"] > 6 * full["seconds"], "eight times the voxels, told by the run of the version before"
    assert finer["disk"] > 6 * full["disk"]
    assert finer["count"] == 8 * full["count"]
    document["regions"][0]["voxel_size"] = 0.0005
    error = api("POST", "/look/estimate", {"study": key, "document": document, "quality": "full"})["g"]["error"]
    assert "would fit" in error


def test_zarr_goes_out_with_checksums(api, smoke, tmp_path):  # noqa: F811
    answer = api("GET", f"/runs/{smoke[2]}/export?format=zarr")
    archive = zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content)))
    names = archive.namelist()
    assert names[:2] == ["g.0001.zarr.zip", "g.0002.zarr.zip"]
    assert "SHA256SUMS" in names
