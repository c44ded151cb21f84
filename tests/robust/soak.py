"""`./gust soak --minutes N`: servers that are looked at by four, edited by eight with undo, run on, delivered from,
tidied and killed for so long, their processes too; the last third is one server's life. At its end nothing may be lost,
torn or left, and nothing may have grown. Prints a table; exit code 1 if something is not as it should be."""

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
from errant_gust.core.runs.delivery.verify import verify
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.mending import damaged
from errant_gust.server.backup import DATABASE
from tests.robust.servers import served
from tests.robust.stress import LINKED, LOOKS, Client
from tests.robust.test_apart import children, ordered, study

LIFE = (60.0, 120.0)
"""Seconds that a server lives, between."""
WORK = (10.0, 25.0)
"""Seconds between two kills of the processes that compute or deliver."""
WARM = 30.0
"""Seconds after which a server has all in memory that it needs: what it has more at its end has grown."""
KEPT = 5
"""Runs that are not taken away."""


class Soak:
    """What goes on, and what was acknowledged."""

    def __init__(self, seconds):
        self.end = time.monotonic() + seconds
        self.told, self.lock, self.rest = Counter(), threading.Lock(), threading.Event()
        self.faults, self.edits, self.delivered = [], [], []
        self.server, self.address, self.key, self.linked = None, "", "", ""

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
            if answer[0] >= 500 and answer[0] != 503:  # 503: too long, in words
                self.fault(f"a look was answered {answer[0]}: {answer[1][:200]!r}")

    def edit(self, who):
        """Edits, one after the other; those that were acknowledged have to be there at the end. Undo now and then."""
        number, rng = 0, random.Random(who)
        while not self.over():
            client = Client(self.address, f"editor{who}")
            try:
                status, body = client.ask("GET", f"/studies/{self.key}")
                now = json.loads(body)
                number += 1
                now["document"]["fields"][0]["steps"][0]["params"]["speed"] = who + number * 0.0001
                label = f"Edit {who}.{number}"
                sent = {"document": now["document"], "base": now["revision"], "label": label}
                status, _ = client.ask("PUT", f"/studies/{self.key}", sent)
                self.count(f"edits answered {status}")
                if status == 200:
                    self.edits.append(label)
                if number % 7 == 0:
                    client.ask("POST", f"/studies/{self.key}/{'undo' if number % 2 else 'redo'}")
            except (OSError, ValueError, KeyError):
                self.count("edits cut off by a kill")
            time.sleep(rng.uniform(1, 4))

    def work(self):
        """Runs of what was edited, deliveries of those that are done, and old ones are taken away."""
        while not self.over():
            server = self.server
            try:
                found = server.ask("GET", f"/runs?study={self.key}")[1]
                if not any(run["state"] in ("waiting", "running") for run in found):  # a newer one stops it
                    self.count(f"runs begun {server.ask('POST', '/runs', {'study': self.key, 'flow': 'p'})[0]}")
                done = [run["identity"] for run in found if run["state"] == "done"]
                if done:
                    name = f"d{self.told['deliveries begun']}"
                    going, told = ordered(server, self.key, done[0], "ply", name)
                    self.count("deliveries begun")
                    while told(going)["state"] in ("waiting", "running") and not self.over():
                        time.sleep(0.3)
                    state = told(going)["state"]
                    self.count(f"deliveries {state}")
                    if state == "done":
                        self.delivered.append(Path(going["to"]))
                for identity in done[KEPT:]:
                    self.count(f"runs taken away {server.ask('DELETE', f'/runs/{identity}')[0]}")
            except (OSError, ValueError, KeyError, StopIteration, AssertionError, TypeError, IndexError):
                self.count("orders cut off by a kill")
            time.sleep(3)

    def lives(self, home, rng):
        """Servers, one after the other, each killed but the last, which lives for a third of the time."""
        sizes, lasts = [], (self.end - time.monotonic()) / 3
        while not self.over():
            with served(home, demo=False) as server:
                self.server, self.address = server, server.address
                if not self.key:
                    self.key = server.ask("POST", "/studies", {"document": study("Soaked", end=40)})[1]["key"]
                    self.linked = server.ask("POST", "/studies", {"document": LINKED})[1]["key"]
                dies = time.monotonic() + rng.uniform(*LIFE)
                if self.end - dies < lasts:
                    dies = self.end
                kills, began = time.monotonic() + rng.uniform(*WORK), None
                warm = time.monotonic() + WARM
                while time.monotonic() < dies and server.alive:
                    time.sleep(0.2)
                    if time.monotonic() > kills:
                        for pid in children(server.process.pid, rng.choice(["runs", "hands"])):
                            os.kill(pid, rng.choice([signal.SIGSEGV, signal.SIGKILL]))
                            self.count("processes killed")
                        kills = time.monotonic() + rng.uniform(*WORK)
                    if began is None and time.monotonic() > warm:
                        began = grown(server.process.pid)
                if not server.alive:
                    self.fault(f"the server ended by itself ({server.process.returncode}): {server.stacks()[-400:]}")
                elif began is not None:
                    sizes.append((time.monotonic() - warm, began, grown(server.process.pid)))
                if self.over():
                    self.rest.wait(120)  # who looks is answered before it is asked to end
                else:
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
    # a delivery that was killed is gone on with, or taken away after a week, as it stands
    found += [str(p) for p in home.rglob("*.part*") if not any(f.endswith(".delivering") for f in p.parts)]
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
        threads += [threading.Thread(target=soak.edit, args=(n,), daemon=True) for n in range(8)]
        threads.append(threading.Thread(target=soak.work, daemon=True))
        [t.start() for t in threads]
        [t.join(max(soak.end + 60 - time.monotonic(), 1)) for t in threads]
        soak.rest.set()
        first.join(60)
        stuck = sum(t.is_alive() for t in [first, *threads])
        with closing(sqlite3.connect(home / DATABASE)) as database:
            kept = {row[0] for row in database.execute("SELECT label FROM gust_revision")}
            states = database.execute("SELECT state, count(*) FROM gust_run GROUP BY state").fetchall()
        lost = [label for label in soak.edits if label not in kept]
        wrong = torn(home)
        wrong += [f"{made.name}: {fault}" for made in soak.delivered for fault in verify(made)]
        frames = sum(len(RunStore(p).frames()) for p in (home / "runs").glob("*"))
    rows = [
        *sorted(soak.told.items()), *((f"runs {state} at the end", many) for state, many in sorted(states)),
        ("edits acknowledged", len(soak.edits)), ("of these lost", len(lost)),
        ("frames kept", frames), ("deliveries proved", len(soak.delivered)),
        ("damaged frames, wrong deliveries and part files", len(wrong)), ("threads that never ended", stuck),
    ]  # fmt: skip
    for lived, before, after in sizes if len(sizes) < 4 else [*sizes[:2], sizes[-1]]:
        names = zip(("MB", "files", "threads"), before, after, strict=True)
        rows.append((f"a server in {lived:.0f} s", ", ".join(f"{a:.0f} → {b:.0f} {name}" for name, a, b in names)))
    print(f"| {minutes:g} minutes | |\n|---|---|")
    for what, many in rows:
        print(f"| {what} | {many} |")
    leaks = [
        f"{a} → {b}" for _, a, b in sizes if b[1] > 2 * a[1] + 50 or b[2] > 2 * a[2] + 20 or b[0] > 1.5 * a[0] + 300
    ]
    for words in [*soak.faults[:20], *lost[:20], *wrong[:20], *leaks]:
        print(words, file=sys.stderr)
    return 1 if soak.faults or lost or wrong or stuck or leaks else 0


if __name__ == "__main__":
    parser = argparse.ArgumentParser(prog="gust soak", description=__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    sys.exit(main(parser.parse_args().minutes))
