"""Many who look at once: nothing waits for ever, nothing fails, and locks keep their order."""

import json
import os
import subprocess
import sys

from tests.robust.servers import served

SECONDS = float(os.environ.get("GUST_STRESS", 25))


def test_eight_threads_ask_for_everything_of_all_demos(tmp_path):
    """Also of shapes that lanes make from distances to shapes that lanes make: there two threads that wanted different
    parts waited for each other for ever."""
    with served(tmp_path, ERRANT_GUST_WATCH_LOCKS="1") as server:
        said = subprocess.run(
            [sys.executable, "-m", "tests.robust.stress", server.address, str(SECONDS)],
            capture_output=True, text=True, timeout=SECONDS + 150, check=True,
        )  # fmt: skip
        told = json.loads(said.stdout)
        assert not told["stuck"], server.stacks()
        assert not told["faults"]
        assert set(told["answers"]) <= {"200", "204"}
        assert told["answers"]["200"] > 8, (
            "every thread has been answered, some more than once; how often is the machine's"
        )
