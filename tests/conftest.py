"""Shared by all tests: a home of their own, the repository's compiled kernels, small studies."""

import json
import os
import sys
import tempfile
from collections import Counter
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
os.environ["ERRANT_GUST_HOME"] = tempfile.mkdtemp(prefix="gust-test-")
os.environ.setdefault("DJANGO_ALLOW_ASYNC_UNSAFE", "1")
# hundreds of processes are begun here: each would compile all sources anew
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
sys.dont_write_bytecode = False

from errant_gust.tuning import tune  # noqa: E402

tune()

import numpy as np  # noqa: E402
import pytest  # noqa: E402
from hypothesis import HealthCheck, settings  # noqa: E402

# more examples than a run of the tests can wait for: GUST_EXAMPLES=500
examples = int(os.environ.get("GUST_EXAMPLES", "25"))
settings.register_profile("gust", deadline=None, max_examples=examples, suppress_health_check=list(HealthCheck))
settings.load_profile("gust")


TIMES = Path(__file__).with_name("durations.json")
"""Seconds that tests took that took one or more, written by `--record-durations`."""
LONG = 1.5
"""Seconds that a test may have taken to be among the quick ones."""
_took: Counter[str] = Counter()


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--quick", action="store_true", help="between commits: without what is slow, one browser test a screen"
    )
    parser.addoption(
        "--record-durations", action="store_true", help=f"keep in {TIMES.name} how long tests took, for --quick"
    )


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    _took[report.nodeid] += report.duration


def pytest_sessionfinish(session: pytest.Session) -> None:
    """Of tests that ran the new time stands, of others the old one; workers of a session leave it to the whole."""
    if session.config.getoption("--record-durations") and not os.environ.get("PYTEST_XDIST_WORKER"):
        known = {**json.loads(TIMES.read_text()), **{k: round(v, 1) for k, v in _took.items()}}
        kept = {k: v for k, v in sorted(known.items()) if v >= 1}
        TIMES.write_text(json.dumps(kept, indent=0) + "\n")


def pytest_configure(config: pytest.Config) -> None:
    config.addinivalue_line("markers", "slow(reason): takes long and seldom breaks: not in --quick")
    config.addinivalue_line("markers", "screen(name): the browser test of a screen that --quick keeps")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """What is left out says why; of browser tests those are kept that say which screen they stand for."""
    for item in items:
        if (mark := item.get_closest_marker("slow")) and not mark.args:
            raise pytest.UsageError(f"{item.nodeid} is marked slow and does not say why")
    if config.getoption("--quick"):
        times = json.loads(TIMES.read_text())
        kept = [item for item in items if _is_quick(item, times)]
        config.hook.pytest_deselected(items=[item for item in items if item not in set(kept)])
        items[:] = kept


def _is_quick(item: pytest.Item, times: dict[str, float]) -> bool:
    if item.path.parent.name == "browser":
        return item.get_closest_marker("screen") is not None
    return item.get_closest_marker("slow") is None and times.get(item.nodeid, 0) <= LONG


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(20261124)
