"""The job itself, usable from scripts: studies, fields, grids, shapes, flows, checks, files.

from errant_gust import core as gust
plan = gust.open_study("demo/harbour_gust.gust.json")
velocity = gust.field(plan, "wind").sample(points, time=0.5)
"""

from errant_gust.core.api import field, open_study

__all__ = ["field", "open_study"]
