"""Figures that only a browser can tell: how far the picture lags behind a drag, first picture, a million particles.

Needs the packages of `./gust test` (Playwright) and Debian's Chromium; software rendering where there is no GPU.
"""

import contextlib
import gzip
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from errant_gust.cli.bench_rows import Row, eight_steps
from errant_gust.core.errors import GustError
from errant_gust.core.flows.particles.kind import ParticleKind
from errant_gust.core.home import shipped
from errant_gust.core.study.building import lane, study

BASE = """async () => {
  const gaps = [], word = document.querySelector('[data-testid=save-state]');
  for (let i = 0; i < 20; i++) {
    const began = performance.now();
    word.style.paddingLeft = `${i % 2}px`;
    await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
    gaps.push(performance.now() - began);
  }
  return gaps;
}"""
FLAGS = [
    "--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip
WATCH = """
window.seen = {score: [], view: [], first: {}};
window.addEventListener('gust:pictured', (e) => {
  seen[e.detail.what].push(...e.detail.late);
  seen.first[e.detail.what] ??= performance.now();
});
"""
DRAG = """async ([name, low, high, edits, pause]) => {
  seen.score = []; seen.view = [];
  const slider = document.querySelector(`[data-testid=slider-${name}]`);
  const thumb = slider.querySelector('[role=slider]'), [first, last] = [+thumb.ariaValueMin, +thumb.ariaValueMax];
  const {left, top, width} = slider.querySelector('.v-slider-track').getBoundingClientRect();
  const at = (value) => ({
    clientX: left + (width * (value - first)) / (last - first), clientY: top + 1, bubbles: true, cancelable: true,
  });
  const body = slider.querySelector('.v-slider__container');
  body.dispatchEvent(new PointerEvent('pointerdown', at(low)));
  body.dispatchEvent(new MouseEvent('mousedown', at(low)));
  for (let i = 0; i < edits; i++) {
    window.dispatchEvent(new MouseEvent('mousemove', at(low + (high - low) * (0.5 - 0.5 * Math.cos(i * 0.2)))));
    await new Promise((done) => setTimeout(done, pause));
  }
  window.dispatchEvent(new PointerEvent('pointerup', at(low)));
  window.dispatchEvent(new MouseEvent('mouseup', at(low)));
  await new Promise((done) => setTimeout(done, 1500));
  return seen;
}"""
TURN = """async (seconds) => {
  const canvas = document.querySelector('[data-testid=view] canvas');
  const at = (type, x) => (type === 'pointerdown' ? canvas : window.document.body && canvas).dispatchEvent(
    new PointerEvent(type, {clientX: x, clientY: 300, button: 0, buttons: type === 'pointerup' ? 0 : 1, pointerId: 1,
    bubbles: true}));
  HTMLCanvasElement.prototype.setPointerCapture = () => {};
  HTMLCanvasElement.prototype.releasePointerCapture = () => {};
  const gl = canvas.getContext('webgl2');
  const gaps = [];
  let last = performance.now(), x = 400;
  at('pointerdown', x);
  const end = last + 1000 * seconds;
  while (last < end) {
    at('pointermove', x += 3);
    await new Promise((done) => requestAnimationFrame(done));
    gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array(4));  // the picture is made, not only ordered
    const now = performance.now();
    gaps.push(now - last);
    last = now;
  }
  at('pointerup', x);
  return gaps;
}"""


@contextlib.contextmanager
def _server(home: str) -> Iterator[str]:

    env = {**os.environ, "ERRANT_GUST_HOME": home}
    env["ERRANT_GUST_DEMO_RUNS"] = "0"  # nothing else runs beside what is measured
    command = [sys.executable, "-m", "errant_gust.cli.main", "serve", "--demo", "--port", "0", "--no-browser"]
    server = subprocess.Popen(command, env=env, stdout=subprocess.PIPE, text=True)
    try:
        assert server.stdout
        yield server.stdout.readline().split()[-1]
    finally:
        server.terminate()
        server.wait(20)


def _post(address: str, path: str, body: Any) -> Any:
    request = urllib.request.Request(
        f"{address}/api{path}",
        json.dumps(body).encode(),
        {"Content-Type": "application/json", "X-Errant-Gust": "1"},
    )
    with urllib.request.urlopen(request, timeout=60) as said:
        return json.loads(said.read())


def _upload(address: str, key: str, file: Path) -> None:
    edge = "gust-bench-edge"
    head = f'--{edge}\r\nContent-Disposition: form-data; name="file"; filename="{file.name}"\r\n\r\n'
    request = urllib.request.Request(
        f"{address}/api/studies/{key}/meshes?name={file.name}",
        head.encode() + file.read_bytes() + f"\r\n--{edge}--\r\n".encode(),
        {"Content-Type": f"multipart/form-data; boundary={edge}", "X-Errant-Gust": "1"},
    )
    urllib.request.urlopen(request, timeout=60).read()


def _settled(address: str, key: str) -> dict[str, Any]:
    """The study's run once it has ended."""
    while True:
        with urllib.request.urlopen(f"{address}/api/runs?study={key}", timeout=60) as said:
            run = json.loads(said.read())[0]
        if run["state"] not in ("waiting", "running"):
            return dict(run)
        time.sleep(0.3)


def _preview(address: str, key: str) -> dict[str, Any]:
    with urllib.request.urlopen(f"{address}/api/studies/{key}", timeout=60) as said:
        flow = json.loads(said.read())["document"]["flows"][0]["id"]
    _post(address, "/runs", {"study": key, "flow": flow, "quality": "preview"})
    return _settled(address, key)


def tail(values: list[float]) -> str:
    """Median and slow end, in words."""
    ordered = sorted(values)
    slow = ordered[min(len(ordered) - 1, int(0.95 * len(ordered)))]
    return f"{len(ordered)} edits, 95 % within {slow:.0f} ms, slowest {ordered[-1]:.0f} ms"


def _million() -> dict[str, Any]:
    """A study whose flow has a million particles from its first frame on."""
    steps = (
        ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 1_000_000, "life": 60.0,
                  "preview_share": 1.0}),
        ("carry", {"field": "wind"}),
    )  # fmt: skip
    return study(
        "A million",
        lane("wind", ("curl_noise", {"octaves": 1})),
        shapes=[{"id": "ball", "kind": "sphere", "params": {"radius": 1.5}}],
        flows=[{**lane("dust", *steps), "kind": ParticleKind.id}],
        clock={"fps": 24, "start": 1, "end": 3},
    )


def browsing() -> list[Row]:
    """Rows measured in headless Chromium."""
    chromium = shutil.which("chromium")
    if chromium is None:
        raise GustError("there is no chromium on the PATH", where="--browser", fix="./gust test installs it")
    from playwright.sync_api import sync_playwright

    rows: list[Row] = []
    with tempfile.TemporaryDirectory() as name, _server(name) as address, sync_playwright() as play:
        browser = play.chromium.launch(executable_path=chromium, args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.add_init_script(WATCH)
        plan = eight_steps(Path(name))
        made = _post(address, "/studies", {"document": plan.study.model_dump(mode="json")})
        _upload(address, made["key"], Path(name) / "light_tower.obj")
        rows += _dragging(page, f"{address}/desk/{made['key']}")
        for demo in ("harbour_gust",):
            _preview(address, demo)
            rows.append(_first_picture(page, f"{address}/desk/{demo}"))
        big = _post(address, "/studies", {"document": _million()})
        run = _preview(address, big["key"])
        rows += _many(page, address, big["key"], run)
        browser.close()
    return [*rows, _bundle()]


def _dragging(page: Any, url: str) -> list[Row]:
    page.goto(url)
    page.get_by_test_id("step-n-s0").click()
    page.get_by_test_id("slider-feature_size").wait_for()
    page.wait_for_timeout(3000)
    page.evaluate(DRAG, ["feature_size", 0.6, 2.0, 10, 60])  # warm
    bare = statistics.median(page.evaluate(BASE))
    seen = page.evaluate(DRAG, ["feature_size", 0.6, 2.0, 80, 60])
    words = {"view": "slice and barbs", "score": "all swatches"}
    return [
        Row(
            f"drag on an eight-step lane: {words[what]} behind the edit",
            statistics.median(seen[what]),
            "a word moved on the page",
            bare,
            statistics.median(seen[what]) / bare,
            "≤ 150 ms",
            note=f"median; {tail(seen[what])}; an edit every 60 ms, from the edit to the frame that shows it",
        )
        for what in words
    ]


def _first_picture(page: Any, url: str) -> Row:
    took = []
    for _ in range(4):
        page.goto("about:blank")
        page.goto(url)
        page.wait_for_function("() => seen.first.score && seen.first.view")
        took.append(page.evaluate("() => Math.max(seen.first.score, seen.first.view)"))
    note = "median of three, from navigation to swatches, slice and shapes drawn; warm server, warm browser cache"
    return Row("first useful picture of Harbour gust", statistics.median(took[1:]), goal="≤ 1200 ms", note=note)


def _many(page: Any, address: str, key: str, run: dict[str, Any]) -> list[Row]:
    sizes: list[int] = []
    page.on(
        "response",
        lambda r: sizes.append(int(r.headers.get("content-length", 0))) if "/frames/" in r.url else None,
    )
    page.goto(f"{address}/desk/{key}")
    page.wait_for_function("() => +document.querySelector('[data-testid=view]')?.dataset.particles >= 1e6")
    page.wait_for_timeout(15_000)
    gaps = sorted(page.evaluate(TURN, 4))
    page.keyboard.press("3")  # without particles
    page.wait_for_timeout(15_000)  # a picture at rest, with all of them, may be under way
    bare = sorted(page.evaluate(TURN, 3))
    median = gaps[len(gaps) // 2]
    note = (
        f"{1e3 / median:.1f} frames a second while turning; {max(sizes) / 1e6:.1f} MB sent a frame "
        f"({max(sizes) / 1e6:.0f} bytes a particle); software rendering"
    )
    return [Row("1 M particles in the view, a picture", median, "without them", bare[len(bare) // 2], note=note)]


def _bundle() -> Row:
    files = list((shipped("web") / "assets").iterdir())
    code = [f for f in files if f.suffix in (".js", ".css")]
    raw, packed = (sum(len(g(f.read_bytes())) for f in code) for g in (bytes, gzip.compress))
    fonts = sum(f.stat().st_size for f in files if f.suffix.startswith(".woff"))
    note = f"{raw / 1e6:.2f} MB of JavaScript and CSS, {packed / 1e6:.2f} MB gzipped, fonts {fonts / 1e6:.2f} MB"
    return Row("front-end bundle (no time)", 0.0, note=note)
