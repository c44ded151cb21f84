"""The most memory that this process has had at once.

Not `getrusage`: what it tells of a process begins with what the parent had when it was forked.
"""

from pathlib import Path

STATUS = Path("/proc/self/status")


def _told(name: str) -> int:
    line = next(x for x in STATUS.read_text().splitlines() if x.startswith(f"{name}:"))
    return 1024 * int(line.split()[1])


def peak() -> int:
    """Bytes at the highest mark since the start, or since `from_here`."""
    return _told("VmHWM")


def now() -> int:
    """Bytes that it has now."""
    return _told("VmRSS")


def from_here() -> int:
    """Bytes now, which is the mark from here on."""
    Path("/proc/self/clear_refs").write_text("5")
    return now()
