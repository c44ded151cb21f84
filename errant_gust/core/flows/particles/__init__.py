"""Particles: emitted from shapes, carried and pushed by fields. Importing this defines the steps."""

from errant_gust.core.flows.particles import channel, drawn, forces, instances, motion, renewal, walls  # noqa: F401
