"""The job itself, usable from scripts: studies, fields, grids, shapes, flows, checks, files.

from errant_gust import core as gust
plan = gust.open_study("demo/harbour_gust.gust.json")
velocity = gust.field(plan, "wind").sample(points, time=0.5)

What is named here is loaded when it is first used: a command that only says what it can do needs no kernels.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from errant_gust.core.api import field, open_study

__all__ = ["field", "open_study"]


def __getattr__(name: str) -> Any:
    if name not in __all__:
        raise AttributeError(f"module 'errant_gust.core' has no attribute '{name}'")
    from errant_gust.core import api

    return getattr(api, name)
