"""Flows: what fields carry. Importing the package defines the steps of flow lanes."""

from errant_gust.core.flows import gas, states  # noqa: F401  (define the steps, and states for fields made from particles)
