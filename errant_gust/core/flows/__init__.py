"""Flows: what fields carry and steer. Kinds of flow define their steps in `catalogue.FLOW_STEPS`."""

from errant_gust.core.flows.particles import steps as _particle_steps  # noqa: F401
