"""`python -m errant_gust.cli.worker_process NAME`: a process in which a server has work done that may end a process.

Orders come as lines of JSON on standard input, what is found goes as lines of JSON to standard output. When the input
ends, the server has: so does this.
"""

import faulthandler
import json
import os
import sys
import threading
from functools import partial
from queue import SimpleQueue
from typing import Any

from errant_gust.core import tasks
from errant_gust.core.blocks import held_up


class WorkerProcess:
    """What was ordered, and what is stopped."""

    def __init__(self) -> None:
        # what libraries print goes to the log: the output belongs to what is told
        self._out = os.fdopen(os.dup(1), "w", buffering=1)
        os.dup2(2, 1)
        self._lock = threading.Lock()
        self.orders: SimpleQueue[dict[str, Any]] = SimpleQueue()
        self.stopped: set[str] = set()

    def say(self, **what: Any) -> None:
        """A line for the server; one that is gone hears nothing."""
        with self._lock:
            try:
                self._out.write(json.dumps(what) + "\n")
            except OSError:
                os._exit(1)

    def tell(self, id: str, facts: dict[str, Any]) -> None:
        """How far an order is."""
        self.say(id=id, tell=facts)

    def unwanted(self, id: str) -> bool:
        """Whether an order was stopped."""
        return id in self.stopped

    def listen(self) -> None:
        """Orders, stops, and whether somebody waits for a picture; until the server has gone."""
        for line in sys.stdin:
            told = json.loads(line)
            if "quiet" in told:
                held_up(bool(told["quiet"]))
            elif "stop" in told:
                self.stopped.add(told["stop"])
            else:
                self.orders.put(told)
        os._exit(0)  # frames are written whole or not at all

    def work(self) -> None:
        """One order after the other."""
        while True:
            order = self.orders.get()
            id = order["id"]
            self.say(id=id, ended=tasks.done(order, partial(self.tell, id), partial(self.unwanted, id)))
            self.stopped.discard(id)


def main() -> None:
    """Do what is ordered, a little behind what somebody waits for."""
    faulthandler.enable()
    os.nice(5)
    one = WorkerProcess()
    threading.Thread(target=one.listen, daemon=True).start()
    one.work()


if __name__ == "__main__":
    main()
