"""`./gust soak --minutes N`: a server that is looked at, edited, run on and killed for so long; at its end nothing may
be lost, torn or left, and nothing may have grown. Prints a table; exit code 1 if something is not as it should be."""

import argparse
import json
import os
import random
import signal
import sqlite3
import sys
import tempfile
import threading
import time
from collections import Counter
from contextlib import closing
from pathlib import Path

import errant_gust.cli  # noqa: F401  (chooses the vectors before a kernel is defined)
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.mending import damaged
from errant_gust.server.backup import DATABASE
from tests.robust.servers import served
from tests.robust.stress import LINKED, LOOKS, Client
from tests.robust.test_apart import children, study

LIFE = (60.0, 120.0)
"""Seconds that a server lives, between."""
WORK = (10.0, 25.0)
"""Seconds between two kills of the process that computes."""


class Soak:
    """What goes on, and what was acknowledged."""

    def __init__(self, seconds):
        self.end = time.monotonic() + seconds
        self.told, self.lock = Counter(), threading.Lock()
        self.faults, self.edits = [], []
        self.address, self.key, self.linked = "", "", ""

    def over(self):
        return time.monotonic() > self.end

    def count(self, what, many=1):
        with self.lock:
            self.told[what] += many

    def fault(self, words):
        with self.lock:
            self.faults.append(words)

    def looks(self, n):
        """Every look at the study in which shapes wait for lanes, and at the one that is edited."""
        rng, client, at = random.Random(n), None, ""
        while not self.over():
            if at != self.address or client is None:
                at = self.address
                client = Client(at, f"tab{n}")
            which = rng.choice([(self.linked, LINKED), (self.key, study("Soaked"))])
            try:
                answer = client.look(rng.choice(LOOKS), *which, rng)
            except OSError:
                self.count("looks cut off by a kill")
                time.sleep(0.3)
                continue
            if answer is None:
                continue
            self.count(f"looks answered {answer[0]}")
            if answer[0] >= 500 and answer[0] != 503:
                self.fault(f"a look was answered {answer[0]}: {answer[1][:200]!r}")

    def edit(self):
        """Edits, one after the other; those that were acknowledged have to be there at the end. Undo now and then."""
        number = 0
        while not self.over():
            client = Client(self.address, "editor")
            try:
                status, body = client.ask("GET", f"/studies/{self.key}")
                now = json.loads(body)
                number += 1
                now["document"]["fields"][0]["steps"][0]["params"]["speed"] = number * 0.001
                label = f"Edit {number}"
                sent = {"document": now["document"], "base": now["revision"], "label": label}
                status, _ = client.ask("PUT", f"/studies/{self.key}", sent)
                if status == 200:
                    self.edits.append(label)
                if number % 7 == 0:
                    client.ask("POST", f"/studies/{self.key}/undo")
                if number % 3 == 0:
                    run = {"study": self.key, "flow": "p"}
                    self.count(f"runs begun {client.ask('POST', '/runs', run)[0]}")
            except (OSError, ValueError, KeyError):
                self.count("edits cut off by a kill")
            time.sleep(0.4)

    def lives(self, home, rng):
        """Servers, one after the other, each killed but the last."""
        sizes = []
        while not self.over():
            with served(home, demo=False) as server:
                self.address = server.address
                if not self.key:
                    self.key = server.ask("POST", "/studies", {"document": study("Soaked", end=40)})[1]["key"]
                    self.linked = server.ask("POST", "/studies", {"document": LINKED})[1]["key"]
                dies = time.monotonic() + rng.uniform(*LIFE)
                kills, began = time.monotonic() + rng.uniform(*WORK), None
                while time.monotonic() < min(dies, self.end) and server.alive:
                    time.sleep(0.2)
                    if time.monotonic() > kills:
                        for pid in children(server.process.pid, "runs"):
                            os.kill(pid, rng.choice([signal.SIGSEGV, signal.SIGKILL]))
                            self.count("processes killed")
                        kills = time.monotonic() + rng.uniform(*WORK)
                    if began is None and time.monotonic() > dies - 45:
                        began = grown(server.process.pid)
                if not server.alive:
                    self.fault(f"the server ended by itself ({server.process.returncode}): {server.stacks()[-400:]}")
                elif began is not None:
                    sizes.append((began, grown(server.process.pid)))
                if not self.over():
                    server.process.send_signal(signal.SIGKILL)
                    server.process.wait(20)
                    self.count("servers killed")
        return sizes


def grown(pid):
    """Megabytes, open files and threads of a process."""
    status = Path(f"/proc/{pid}/status").read_text()
    megabytes = next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmRSS")) / 1024
    return megabytes, len(list(Path(f"/proc/{pid}/fd").iterdir())), len(list(Path(f"/proc/{pid}/task").iterdir()))


def torn(home):
    """What is not as it was written, and what was left behind."""
    found = []
    for folder in sorted((home / "runs").glob("*")):
        store = RunStore(folder)
        found += [f"{folder.name}, frame {n}: {what}" for n, what in damaged(store).items()]
    found += [str(p) for p in home.rglob("*.part")]
    return found


def main(minutes):
    soak, rng = Soak(60 * minutes), random.Random(1)
    with tempfile.TemporaryDirectory(prefix="gust-soak-") as name:
        home = Path(name) / "home"
        sizes, threads = [], []

        def live():
            sizes.extend(soak.lives(home, rng))

        first = threading.Thread(target=live, daemon=True)
        first.start()
        while not soak.linked and first.is_alive():
            time.sleep(0.1)
        threads = [threading.Thread(target=soak.looks, args=(n,), daemon=True) for n in range(4)]
        threads.append(threading.Thread(target=soak.edit, daemon=True))
        [t.start() for t in threads]
        [t.join(60 * minutes + 120) for t in [first, *threads]]
        stuck = sum(t.is_alive() for t in [first, *threads])
        with closing(sqlite3.connect(home / DATABASE)) as database:
            kept = {row[0] for row in database.execute("SELECT label FROM gust_revision")}
        lost = [label for label in soak.edits if label not in kept]
        wrong = torn(home)
        frames = sum(len(RunStore(p).frames()) for p in (home / "runs").glob("*"))
    rows = [
        *sorted(soak.told.items()), ("edits acknowledged", len(soak.edits)), ("of these lost", len(lost)),
        ("frames kept", frames), ("damaged frames and part files", len(wrong)), ("threads that never ended", stuck),
    ]  # fmt: skip
    for (mb0, files0, threads0), (mb1, files1, threads1) in sizes:
        rows.append(("a server in its last 45 s", f"{mb0:.0f} → {mb1:.0f} MB, {files0} → {files1} files, "
                     f"{threads0} → {threads1} threads"))  # fmt: skip
    print("| what | |\n|---|---|")
    for what, many in rows:
        print(f"| {what} | {many} |")
    leaks = [f"{a} → {b}" for a, b in sizes if b[1] > 2 * a[1] + 50 or b[2] > 2 * a[2] + 20 or b[0] > 1.5 * a[0] + 300]
    for words in [*soak.faults[:20], *lost[:20], *wrong[:20], *leaks]:
        print(words, file=sys.stderr)
    return 1 if soak.faults or lost or wrong or stuck or leaks else 0


if __name__ == "__main__":
    parser = argparse.ArgumentParser(prog="gust soak", description=__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    sys.exit(main(parser.parse_args().minutes))
