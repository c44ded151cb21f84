"""Servers of tests, each on a home of its own, and what their threads do when something is wrong."""

import http.client
import json
import os
import signal
import subprocess
import sys
import urllib.error
import urllib.request
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from errant_gust.cli.serve import STACKS
from tests.clusters import until


@dataclass
class Server:
    """A server that goes."""

    address: str
    process: subprocess.Popen
    home: Path

    def ask(self, method, path, body=None, headers=None):
        """Status and answer: parsed JSON, or bytes."""
        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        request = urllib.request.Request(
            f"{self.address}/api{path}", data, method=method,
            headers={"X-Errant-Gust": "1", "Content-Type": "application/json", **(headers or {})},
        )  # fmt: skip
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return answer.status, _parsed(answer)
        except urllib.error.HTTPError as error:
            with error:
                return error.code, _parsed(error)
        except http.client.HTTPException as error:
            raise ConnectionError(repr(error)) from error  # cut off within an answer

    def stacks(self):
        """What its threads do."""
        self.process.send_signal(signal.SIGUSR1)
        until(lambda: "most recent call first" in (self.home / STACKS).read_text(), 10)
        return (self.home / STACKS).read_text()

    @property
    def alive(self):
        """Whether it goes."""
        return self.process.poll() is None


def _parsed(answer):
    content = answer.read()
    return json.loads(content) if "json" in answer.headers.get("Content-Type", "") and content else content


@contextmanager
def served(home, *more, demo=True, wait=120, **env):
    """A server on a home folder, ended afterwards."""
    command = [
        sys.executable, "-m", "errant_gust.cli.main", "serve", *(["--demo"] if demo else []), "--no-browser", "--port",
        "0", *more,
    ]  # fmt: skip
    given = {**os.environ, "ERRANT_GUST_HOME": str(home), "ERRANT_GUST_DEMO_RUNS": "0", **env}
    process = subprocess.Popen(command, env=given, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    try:
        line = process.stdout.readline()
        if "ready at" not in line:
            raise AssertionError(f"it did not start: {line}{process.stderr.read()}")
        yield Server(line.split()[-1], process, Path(home))
    finally:
        process.terminate()
        try:
            process.wait(20)
        except subprocess.TimeoutExpired:
            process.kill()
