"""Shared by all tests: a home of their own, the repository's compiled kernels, small studies."""

import os
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
os.environ["ERRANT_GUST_HOME"] = tempfile.mkdtemp(prefix="gust-test-")
os.environ.setdefault("DJANGO_ALLOW_ASYNC_UNSAFE", "1")

from errant_gust.tuning import tune  # noqa: E402

tune()

import numpy as np  # noqa: E402
import pytest  # noqa: E402
from hypothesis import HealthCheck, settings  # noqa: E402

# more examples than a run of the tests can wait for: GUST_EXAMPLES=500
examples = int(os.environ.get("GUST_EXAMPLES", "25"))
settings.register_profile("gust", deadline=None, max_examples=examples, suppress_health_check=list(HealthCheck))
settings.load_profile("gust")


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(20261124)
