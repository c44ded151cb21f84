"""A server of its own home and a headless Chromium; every test gets a fresh page."""

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from playwright.sync_api import expect, sync_playwright

from errant_gust.cli.bench_browser import FLAGS
from errant_gust.cli.serve import STACKS

PATIENCE = 90_000
"""Milliseconds that anything is waited for: two browsers draw in software on two cores, beside their servers."""
expect.set_options(timeout=PATIENCE)


DRAWN_PLAINLY = [*FLAGS, "--disable-gpu-compositing"]
"""Pages are put together without the graphics card, which software would have to play: the view is drawn as before."""
_servers: list[tuple[subprocess.Popen[str], Path]] = []
"""Servers of this session and their home folders."""


LONGEST = (
    "test_light", "test_desk", "test_whole_job", "test_access", "test_gas", "test_liquid", "test_flows",
    "test_hand_over", "test_hands", "test_grains", "test_field_library", "test_growth", "test_made_shapes",
    "test_following", "test_runs",
)  # fmt: skip
"""Files by how long they take, measured: two workers do a file each, and none should be left with a long one."""


def pytest_collection_modifyitems(items):
    """The longest files first."""
    order = {name: n for n, name in enumerate(LONGEST)}
    items.sort(key=lambda item: order.get(item.path.stem, len(order)))


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item, call):
    """A test that failed is told with what the threads of its servers do."""
    report = yield
    if report.when == "call" and report.failed:
        for server, home in _servers:
            if server.poll() is None:
                server.send_signal(signal.SIGUSR1)
                time.sleep(1)
                report.sections.append((f"threads of the server {server.pid}", (home / STACKS).read_text()))
    return report


@pytest.fixture(scope="session")
def start_server(tmp_path_factory):
    """Start servers (address, process), each on a home of its own if none is named; all are ended with the session."""
    going = []

    def start(port=0, home=None):
        home = home or tmp_path_factory.mktemp("home")
        # previews of demos that nobody looks at would take the two cores from those that a test waits for
        env = {**os.environ, "ERRANT_GUST_HOME": str(home), "ERRANT_GUST_DEMO_RUNS": "0"}
        command = [sys.executable, "-m", "errant_gust.cli.main", "serve", "--demo", "--no-browser", "--port", str(port)]
        server = subprocess.Popen(command, env=env, stdout=subprocess.PIPE, text=True)
        going.append(server)
        _servers.append((server, Path(home)))
        return server.stdout.readline().split()[-1], server

    yield start
    for server in going:
        server.terminate()
    for server in going:
        server.wait(20)


@pytest.fixture(scope="session")
def address(start_server):
    return start_server()[0]


@pytest.fixture(scope="session")
def browser():
    path = shutil.which("chromium")
    assert path, "./gust test installs Debian's chromium"
    with sync_playwright() as play:
        made = play.chromium.launch(executable_path=path, args=DRAWN_PLAINLY)
        yield made
        made.close()


@pytest.fixture(scope="session")
def profile(browser):
    """What pages share: scripts and shaders that were compiled once. Nothing is kept in it from test to test."""
    made = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True, reduced_motion="reduce")
    yield made
    made.close()


@pytest.fixture
def page(profile):
    made = profile.new_page()
    # drawn in software
    made.add_init_script("localStorage.getItem('pixels') ?? localStorage.setItem('pixels', '0.25')")
    made.set_default_timeout(PATIENCE)
    faults = []
    made.on("pageerror", lambda error: faults.append(str(error)))
    yield made
    if made.url.startswith("http"):
        made.evaluate("localStorage.clear()")
    for other in profile.pages:
        other.close()
    assert not faults, faults
