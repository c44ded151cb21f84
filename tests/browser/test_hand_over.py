"""A delivery as a user makes it: gas, particles, lines and instances chosen, written, proved, one byte changed and
found; read by the real libraries."""

import io
import json
import re
import subprocess
import zipfile
from pathlib import Path

import av
import numpy as np
from PIL import Image
from playwright.sync_api import expect

from errant_gust.core.flows.kind import kind_of
from errant_gust.core.runs.frame_store import RunStore
from tests.browser.test_hands import BALL, ROOM, opened
from tests.browser.tools import choose
from tests.studies import lane

SWIRL = {**lane("v", ("curl_noise", {"feature_size": 0.7, "strength": 1.2})), "name": "Swirl"}
DUST = {
    **lane("dust", ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 400, "life": 9.0}),
           ("carry", {"field": "v"}), ("trail", {"length": 3, "share": 1})),
    "name": "Dust", "kind": "particles",
}  # fmt: skip
SMOKE = {
    **lane("smoke", ("domain", {"region": "room"}), ("source", {"shape": "ball", "density": 1, "temperature": 200}),
           ("rise", {})),
    "name": "Smoke", "kind": "gas",
}  # fmt: skip
VDB = (
    "import json, sys, pyopenvdb as o, numpy as np\n"
    "g = o.read(sys.argv[1], 'density'); low, high = g.evalActiveVoxelBoundingBox()\n"
    "a = np.zeros([h - l + 1 for l, h in zip(low, high)], 'f4'); g.copyToArray(a, ijk=low)\n"
    "print(json.dumps([float(a.sum(dtype='f8')), g.transform.voxelSize()]))"
)


def run_of(page, address, key, flow):
    headers = {"X-Errant-Gust": "1"}
    body = {"study": key, "flow": flow, "quality": "full"}
    made = json.loads(page.request.post(f"{address}/api/runs", headers=headers, data=body).text())
    for _ in range(600):
        rows = json.loads(page.request.get(f"{address}/api/runs?study={key}").text())
        if next(r for r in rows if r["identity"] == made["identity"])["state"] == "done":
            return made["identity"]
        page.wait_for_timeout(100)
    raise AssertionError("the run does not end")


def draw_lit(page, address, key):
    """A still and a film that the server draws: stopped, gone on with, played."""
    page.get_by_test_id("flipbook").click()
    choose(page, "flip-how", "lit")
    choose(page, "flip-size", "640x400")
    page.get_by_test_id("flip-one").click()
    page.get_by_test_id("flip-go").click()
    still = page.get_by_test_id("flip-still")
    expect(still).to_be_visible(timeout=60_000)
    address_of = still.get_attribute("src")
    picture = np.asarray(Image.open(io.BytesIO(page.request.get(f"{address}{address_of}").body())).convert("RGB"))
    assert picture.shape == (400, 640, 3)
    assert len(np.unique(picture.reshape(-1, 3), axis=0)) > 300, "light falls on something"
    expect(page.get_by_test_id("flip-save-still")).to_be_visible()
    for name, frame in (("first", 1), ("last", 4)):
        page.get_by_test_id(f"flip-{name}").fill(str(frame))
        page.get_by_test_id(f"flip-{name}").press("Enter")
    choose(page, "flip-quality", "still")
    choose(page, "flip-size", "1280x800")
    page.get_by_test_id("flip-go").click()
    expect(page.get_by_test_id("flip-drawing")).to_contain_text("1 of 4", timeout=60_000)
    page.get_by_test_id("flip-stop").click()
    expect(page.get_by_test_id("flip-unfinished")).to_contain_text("of 4 drawn", timeout=60_000)
    page.get_by_test_id("flip-close").click()
    page.get_by_test_id("flipbook").click()
    page.get_by_test_id("flip-go-on").click()
    expect(page.get_by_test_id("flip-film")).to_be_visible(timeout=120_000)
    page.wait_for_function("() => document.querySelector('video').readyState >= 2")
    assert page.evaluate("(v => [v.videoWidth, v.videoHeight])(document.querySelector('video'))") == [1280, 800]
    expect(page.get_by_test_id("flip-unfinished")).to_have_count(0)
    page.get_by_test_id("flip-close").click()
    for made in json.loads(page.request.get(f"{address}/api/studies/{key}/flipbooks").text()):
        if made["note"].startswith("in full light"):
            page.request.delete(f"{address}/api/studies/{key}/flipbooks/{made['id']}", headers={"X-Errant-Gust": "1"})


def make_flipbook(page, key):
    """A viewpoint is kept and made the camera of frame 1; three frames are filmed and played."""
    choose(page, "quality", "full")
    page.get_by_test_id("views").click()
    page.get_by_test_id("keep-view").click()
    page.get_by_test_id("flipbook").click()

    def frames(first, last):
        for name, frame in (("first", first), ("last", last)):
            page.get_by_test_id(f"flip-{name}").fill(str(frame))
            page.get_by_test_id(f"flip-{name}").press("Enter")

    frames(1, 9)
    page.get_by_test_id("flip-go").click()
    expect(page.get_by_test_id("flip-problem")).to_have_text("Frames 1 to 9 are not in the study's 1 to 4")
    frames(1, 3)
    choose(page, "flip-size", "640x400")
    page.get_by_test_id("flip-key-0").check()
    expect(page.get_by_test_id("flipbook-dialog")).to_contain_text("through 1 viewpoint")
    page.get_by_test_id("flip-go").click()
    film = page.get_by_test_id("flip-film")
    expect(film).to_be_visible(timeout=120_000)
    page.wait_for_function("() => document.querySelector('video').readyState >= 2")
    assert page.evaluate("(v => [v.videoWidth, v.videoHeight])(document.querySelector('video'))") == [640, 400]
    expect(page.get_by_test_id("flip-save-film")).to_have_attribute("href", re.compile(f"/studies/{key}/flipbooks/"))
    page.get_by_test_id("flip-close").click()
    expect(page.get_by_test_id("flipbook-dialog")).to_have_count(0)


def check_film(folder):
    """The film shows its pictures: points that move, and a frame number that changes."""
    with av.open(str(folder / "flipbook.mp4")) as film:
        shown = [f.to_ndarray(format="rgb24").astype(int) for f in film.decode(video=0)]
    kept = [np.asarray(Image.open(folder / f"flipbook.{n:04d}.png").convert("RGB")).astype(int) for n in (1, 2, 3)]
    assert len(shown) == 3
    for a, b in zip(shown, kept, strict=True):
        assert np.abs(a - b).mean() < 4
    words = [k[370:398, 8:160].max(axis=2) > 140 for k in kept]
    assert all(w.sum() > 40 for w in words), "the study's name and the frame"
    assert (words[0] != words[1]).any()
    light = kept[2][:360].max(axis=2) > 120
    assert light.sum() > 200, "what the view shows"
    assert (np.abs(kept[0][:360] - kept[2][:360]).max(axis=2) > 24).sum() > 100, "it moves"


def test_a_delivery_of_gas_points_and_lines_is_written_proved_and_read_elsewhere(page, address):
    from pxr import Usd, UsdGeom

    key = opened(
        page, address, SWIRL, shapes=[BALL], regions=[{**ROOM, "voxel_size": 0.15}], flows=[DUST, SMOKE],
        clock={"fps": 24, "start": 1, "end": 4},
    )  # fmt: skip
    run_of(page, address, key, "dust"), run_of(page, address, key, "smoke")
    make_flipbook(page, key)
    draw_lit(page, address, key)
    page.get_by_test_id("open-hand-over").click()
    page.wait_for_url("**/hand-over/*")
    expect(page.get_by_test_id("hand-plan")).to_contain_text("4 files")
    for part in ("dust-full-particles", "dust-full-lines", "smoke-full-volume"):
        if not page.get_by_test_id(f"take-{part}").is_checked():
            page.get_by_test_id(f"take-{part}").check()
    for part in ("dust-preview-particles", "dust-preview-lines", "smoke-preview-volume"):
        if page.get_by_test_id(f"take-{part}").count() and page.get_by_test_id(f"take-{part}").is_checked():
            page.get_by_test_id(f"take-{part}").uncheck()
    choose(page, "format-dust-full-particles", "usd")
    page.get_by_test_id("channel-particles-age").click()
    choose(page, "hand-up", "Y")
    choose(page, "hand-unit", "cm")
    choose(page, "hand-per", "frame")
    page.get_by_test_id("hand-half").check()
    page.get_by_test_id("hand-number").fill("1001")
    page.get_by_test_id("hand-number").press("Enter")
    expect(page.get_by_test_id("hand-plan")).to_contain_text("12 files")
    expect(page.get_by_test_id("offer-field-v")).to_contain_text("one")
    expect(page.get_by_test_id("offer-field-v")).to_contain_text("vector, m/s")
    page.get_by_test_id("take-field-v").check()
    page.get_by_test_id("take-shape-ball").check()
    choose(page, "format-shape-ball", "usd")
    expect(page.get_by_test_id("hand-plan")).to_contain_text("14 files")
    expect(page.get_by_test_id("hand-stages")).to_contain_text("v/v_room.usda, ball/ball_shape.usda, scene.usda")
    expect(page.get_by_test_id("hand-plan")).to_contain_text("vdb is read by OpenVDB")
    expect(page.get_by_test_id("hand-cameras")).to_contain_text("View 1 as a camera, and one that goes")
    page.get_by_text("flipbook of frames 1 to 3").click()
    expect(page.get_by_test_id("hand-plan")).to_contain_text("19 files")
    page.get_by_test_id("hand-pattern").fill("{flow}.{frame}")
    page.get_by_test_id("hand-pattern").press("Enter")
    expect(page.get_by_test_id("hand-refused")).to_contain_text("would be one file")
    expect(page.get_by_test_id("hand-write")).to_be_disabled()
    page.get_by_test_id("hand-pattern").fill("{flow}/{flow}_{result}.{frame}")
    page.get_by_test_id("hand-pattern").press("Enter")
    page.get_by_test_id("hand-name").fill("quay_dust")
    page.get_by_test_id("hand-name").press("Enter")
    page.get_by_test_id("hand-write").click()
    row = page.get_by_test_id("made-quay_dust")
    expect(row).to_contain_text("31 files", timeout=90_000)  # and the stages of five and of it all
    row.get_by_test_id("hand-prove").click()
    expect(row.get_by_test_id("hand-proof")).to_have_text("all as delivered", timeout=90_000)

    there = json.loads(page.request.get(f"{address}/api/hand-over?study={key}").text())
    folder = next(Path(m["to"]) for m in there["made"] if m["to"].endswith("/quay_dust"))
    home = folder.parents[1]
    runs = {o["flow"]: RunStore(home / "runs" / o["run"]) for o in there["offered"] if o["quality"] == "full"}
    file = folder / "smoke" / "smoke_volume.1004.vdb"
    said = subprocess.run(["/usr/bin/python3", "-c", VDB, str(file)], capture_output=True, text=True, check=True)
    total, size = json.loads(said.stdout)
    ours = kind_of("gas").result().read(runs["smoke"], 4).grids["density"].values
    assert abs(total - float(ours.sum(dtype=np.float64))) < 2e-3 * total
    assert np.allclose(size, 15)
    stage = Usd.Stage.Open(str(folder / "dust" / "dust_particles.usda"))
    cloud = UsdGeom.Points(stage.GetPrimAtPath("/dust/Particles"))
    here = kind_of("particles").result().read(runs["dust"], 4)
    places = np.stack([here.position[:, 0], here.position[:, 2], -here.position[:, 1]], axis=1) * 100
    np.testing.assert_allclose(np.array(cloud.GetPointsAttr().Get(1004)), places, rtol=1e-4, atol=1e-3)
    assert not cloud.GetPrim().GetAttribute("primvars:age"), "the channel that was struck out"
    made = there["flipbooks"][0]["id"]
    page.get_by_test_id(f"forget-{made}").click()
    expect(page.get_by_test_id(f"film-{made}")).to_have_count(0)
    assert len(list((folder / "dust").glob("dust_lines.*.usdc"))) == 4
    scene = Usd.Stage.Open(str(folder / "scene.usda"))
    assert scene.GetPrimAtPath("/World/Cameras/View_1").IsA(UsdGeom.Camera)
    goes = UsdGeom.Camera(scene.GetPrimAtPath("/World/Cameras/Goes"))
    assert goes.GetFocusDistanceAttr().GetTimeSamples() == [1001, 1002, 1003, 1004]
    shown = UsdGeom.Points(scene.GetPrimAtPath("/World/dust_particles/Particles"))
    np.testing.assert_array_equal(shown.GetPointsAttr().Get(1004), cloud.GetPointsAttr().Get(1004))
    with page.expect_download() as sent:
        row.get_by_test_id("hand-download").click()
    with zipfile.ZipFile(sent.value.path()) as archive:
        assert archive.read("smoke/smoke_volume.1004.vdb") == file.read_bytes()
    check_film(next((folder / "flipbook").iterdir()))

    data = bytearray(file.read_bytes())
    data[len(data) // 2] ^= 1
    file.write_bytes(data)
    row.get_by_test_id("hand-prove").click()
    expect(row.get_by_test_id("hand-proof")).to_contain_text("smoke/smoke_volume.1004.vdb: was changed", timeout=90_000)
