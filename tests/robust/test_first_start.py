"""The first start on a machine: the server answers while kernels are compiled; what needs one says how long that is."""

import os
import signal

import pytest

from tests.clusters import until
from tests.robust.servers import served
from tests.robust.test_apart import study


def compilers(server):
    """Processes that compile for a server."""
    found = []
    for name in os.listdir("/proc"):
        try:
            with open(f"/proc/{name}/cmdline") as file:
                words = file.read().split("\0")
            with open(f"/proc/{name}/stat") as file:
                parent = int(file.read().rpartition(")")[2].split()[1])
        except (OSError, ValueError):
            continue
        if "errant_gust.cli.warm" in words and (server is None or parent == server):
            found.append(int(name))
    return found


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGKILL])
def test_studies_are_edited_while_kernels_are_compiled(tmp_path, how):
    with served(tmp_path / "home", demo=False, ERRANT_GUST_KERNELS=str(tmp_path / "kernels")) as server:
        told = server.ask("GET", "/compiling")[1]
        assert 0 <= told["share"] < 1
        going = compilers(server.process.pid)
        assert going
        key = server.ask("POST", "/studies", {"document": study("First", end=3)})[1]["key"]
        now = server.ask("GET", f"/studies/{key}")[1]
        now["document"]["name"] = "Edited"
        saved = {"document": now["document"], "base": now["revision"], "label": "Rename"}
        assert server.ask("PUT", f"/studies/{key}", saved)[0] == 200
        look = {"study": key, "document": now["document"], "time": 0, "size": 24, "channel": "a.b", "serial": 1}
        run = {"study": key, "flow": "p", "quality": "full"}
        for path, body in (("/look/swatches", look), ("/runs", run)):
            status, said = server.ask("POST", path, body)
            assert status == 503
            assert "kernels are being compiled for this machine" in said["what"]
            assert said["compiling"]["share"] < 1
        assert server.ask("GET", f"/runs?study={key}") == (200, [])
        until(lambda: server.ask("GET", "/compiling")[1]["share"] > 0, 60)
        server.process.send_signal(how)
        server.process.wait(20)
        until(lambda: not [pid for pid in compilers(None) if pid in going], 20)
