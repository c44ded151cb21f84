"""Newest request wins: a request on a channel cancels the older ones on it."""

import threading

_lock = threading.Lock()
_latest: dict[str, int] = {}


class Turn:
    """A request's place on its channel; `superseded()` tells whether a newer one has come."""

    def __init__(self, channel: str, serial: int) -> None:
        self.channel, self.serial = channel, serial
        with _lock:
            if len(_latest) > 4096:
                _latest.clear()
            _latest[channel] = max(serial, _latest.get(channel, 0))

    def superseded(self) -> bool:
        return _latest.get(self.channel, 0) > self.serial
