"""What the benchmark says of memory is its own process's, not what the parent had."""

import subprocess
import sys

import numpy as np

from errant_gust.core.peak import from_here, peak

SCRIPT = """
import numpy as np
from errant_gust.core.peak import peak
start = peak()
a = np.ones(10_000_000)
print(start, peak())
"""


def test_the_peak_is_the_processs_own_and_follows_what_it_takes():
    mine = np.ones(60_000_000)
    before = peak()
    assert before > mine.nbytes
    said = subprocess.run([sys.executable, "-c", SCRIPT], capture_output=True, text=True, check=True).stdout.split()
    start, end = map(int, said)
    assert start < before - 3e8, "a child does not begin with what its parent had"
    assert 7e7 < end - start < 1.2e8
    del mine
    assert from_here() < before - 3e8
    assert peak() < before - 3e8
