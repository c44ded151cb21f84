"""A simulation of a large site: so many runs that wait, so many workers that say every second how far they are, and
what that asks of the server's process. Run as a program by the bench, on a home of its own."""

import json
import os
import sys
import threading
import time
from collections import deque

import django

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "errant_gust.server.settings")
FRAMES = 20


def main(workers: int, count: int, seconds: float) -> None:
    """Print seconds of processor time a second, reports and ends a second, and milliseconds of a look at the shelf."""
    django.setup()
    from django.core.management import call_command

    from errant_gust.core.flows.kind import KINDS
    from errant_gust.core.runs import engine
    from errant_gust.core.runs.engine import Finished, Order, Tell
    from errant_gust.server import revisions, runs, shelf
    from errant_gust.server.models import Run

    call_command("migrate", verbosity=0)
    study = revisions.create({"format": "errant-gust-study", "version": 2, "name": "Crowd"})
    many = [
        Run(identity=f"crowd{n:05d}", study=study, flow="g", kind=next(iter(KINDS)), quality="preview", last=FRAMES)
        for n in range(count)
    ]
    Run.objects.bulk_create(many, batch_size=500)
    Run.asked.through.objects.bulk_create(
        [Run.asked.through(run_id=r.identity, study_id=study.key) for r in many], batch_size=500
    )
    os.environ |= {"ERRANT_GUST_SCHEDULER": "tcp://nowhere:1", "ERRANT_GUST_AT_ONCE": str(workers)}
    going: deque[tuple[Order, Finished, Tell | None, int]] = deque()
    lock = threading.Lock()

    def take(order: Order, finished: Finished, tell: Tell | None = None, address: str | None = None) -> None:
        with lock:
            going.append((order, finished, tell, 0))

    engine.submit = take
    told = ended = 0
    runs.take_up()
    began, cpu = time.monotonic(), time.process_time()
    while time.monotonic() - began < seconds:
        due = time.monotonic() + 1.0 / workers  # each worker is heard once a second
        with lock:
            following = going.popleft() if going else None
        if following is not None:
            order, finished, tell, done = following
            if done < FRAMES:
                if tell is not None:
                    tell({"done": done + 1, "total": FRAMES, "left": float(FRAMES - done), "each": 1.0})
                told += 1
                with lock:
                    going.append((order, finished, tell, done + 1))
            else:
                finished({"state": "done", "message": "", "worker": "nobody"})
                ended += 1
        time.sleep(max(0.0, due - time.monotonic()))
    span = time.monotonic() - began
    used = (time.process_time() - cpu) / span
    t0 = time.perf_counter()
    listed = shelf.shelf("")
    look = time.perf_counter() - t0
    assert listed["total"] == count
    print(json.dumps({"cpu": used, "told": told / span, "ended": ended / span, "shelf": look}))
    sys.stdout.flush()
    os._exit(0)  # what still goes is nobody's


if __name__ == "__main__":
    main(int(sys.argv[1]), int(sys.argv[2]), float(sys.argv[3]))
