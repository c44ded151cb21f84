"""Eight threads that ask one server for everything of all demos, and of a study of shapes made from one another, for so
many seconds: `python -m tests.robust.stress ADDRESS SECONDS`. Prints a line of JSON: what was asked and answered."""

import http.client
import json
import random
import struct
import sys
import threading
import time
from collections import Counter
from urllib.parse import urlsplit

LINKED = {
    "format": "errant-gust-study", "version": 2, "name": "Made from one another",
    "clock": {"fps": 24, "start": 1, "end": 48},
    "shapes": [
        {"id": "ball", "name": "Ball", "kind": "sphere", "params": {"radius": 0.5}},
        {"id": "blob", "name": "Blob", "kind": "deformed",
         "params": {"shape": "ball", "field": "grain", "how": "along the normal", "edges": 0.08, "amount": 0.2}},
        {"id": "again", "name": "Again", "kind": "deformed",
         "params": {"shape": "blob", "field": "near", "how": "along the normal", "edges": 0.08, "amount": 0.1}},
    ],
    "regions": [
        {"id": "room", "name": "Room", "voxel_size": 0.15, "bounds": {"lower": [-1, -1, -1], "upper": [1, 1, 1]}},
    ],
    "fields": [
        {"id": "grain", "name": "Grain", "steps": [
            {"id": "a", "op": "noise", "params": {"feature_size": 0.6, "evolve": 1.0}}]},
        {"id": "near", "name": "Near", "steps": [{"id": "a", "op": "distance", "params": {"shape": "blob"}}]},
        {"id": "far", "name": "Far", "steps": [{"id": "a", "op": "distance", "params": {"shape": "again"}},
                                              {"id": "b", "op": "bake", "params": {"region": "room"}}]},
    ],
    "flows": [], "looks": {},
}  # fmt: skip
LOOKS = ("shapes", "swatches", "probe", "surface", "lines", "reading", "value", "checks", "estimate")
ACROSS = {"origin": [-2, -2, 0.5], "u": [4, 0, 0], "v": [0, 4, 0], "columns": 48, "rows": 48}


class Client:
    """One connection that asks and looks at what comes back."""

    def __init__(self, address, name):
        self.address, self.name, self.serial = address, name, 0
        self.connection = None

    def ask(self, method, path, body=None):
        """Status and bytes."""
        if self.connection is None:
            self.connection = http.client.HTTPConnection(urlsplit(self.address).netloc, timeout=60)
        try:
            self.connection.request(
                method, f"/api{path}", None if body is None else json.dumps(body),
                {"X-Errant-Gust": "1", "Content-Type": "application/json"},
            )  # fmt: skip
            answer = self.connection.getresponse()
            return answer.status, answer.read()
        except (OSError, http.client.HTTPException) as error:
            self.connection = None
            raise ConnectionError(repr(error)) from error  # cut off, wherever in the answer

    def look(self, what, study, document, rng):
        """One look of a sort at a study, at some time."""
        self.serial += 1
        clock = document["clock"]
        lanes = document["fields"] or [{"id": "none", "steps": []}]
        lane = rng.choice(lanes)
        frame = rng.choice([0, 0, rng.randrange(0, 12)])
        body = {
            "study": study, "document": document, "time": frame / clock["fps"], "lane": lane["id"],
            "channel": f"{self.name}.{what}", "serial": self.serial, "size": 24, "axis": 2, "share": 0.4,
            "slice": ACROSS, "point": [rng.uniform(-2, 2) for _ in range(3)], "count": 64,
            "seeds": [[rng.uniform(-1, 1) for _ in range(3)] for _ in range(24)], "length": 2.0, "steps": 24,
        }  # fmt: skip
        if what == "surface":
            shapes = [s["id"] for s in document["shapes"] if s["kind"] not in ("curve",)]
            if not shapes:
                return None
            body["shape"] = rng.choice(shapes)
        return self.ask("POST", f"/look/{what}", body)


def main(address, seconds, threads=8):
    first = Client(address, "first")
    studies = {}
    status, made = first.ask("POST", "/studies", {"document": LINKED})
    assert status == 200, made
    for card in json.loads(first.ask("GET", "/studies")[1]):
        studies[card["key"]] = json.loads(first.ask("GET", f"/studies/{card['key']}")[1])["document"]
    told, slowest, lock = Counter(), Counter(), threading.Lock()
    end = time.monotonic() + seconds
    faults = []

    def work(n):
        rng, client = random.Random(n), Client(address, f"tab{n}")
        while time.monotonic() < end:
            what = rng.choice(LOOKS)
            # every other time the study in which shapes wait for lanes and lanes for shapes
            key = rng.choice([json.loads(made)["key"], *rng.sample(sorted(studies), 1)])
            began = time.monotonic()
            try:
                answer = client.look(what, key, studies[key], rng)
            except Exception as error:
                with lock:
                    faults.append(f"{what} of {key}: {error!r}")
                return
            if answer is None:
                continue
            status, content = answer
            with lock:
                told[f"{status}"] += 1
                slowest[what] = max(slowest[what], time.monotonic() - began)
                if status >= 500 and status != 503:
                    faults.append(f"{what} of {key}: {status} {content[:200]!r}")
            if status == 200 and what in ("shapes", "swatches"):
                (head,) = struct.unpack_from("<I", content)
                wrong = json.loads(content[4 : 4 + head])["errors"]
                if wrong:
                    with lock:
                        faults.append(f"{what} of {key}: {wrong}")

    going = [threading.Thread(target=work, args=(n,), daemon=True) for n in range(threads)]
    [t.start() for t in going]
    [t.join(seconds + 90) for t in going]
    stuck = sum(t.is_alive() for t in going)
    print(json.dumps({"answers": told, "slowest": slowest, "faults": faults[:20], "stuck": stuck}), flush=True)


if __name__ == "__main__":
    main(sys.argv[1], float(sys.argv[2]))
