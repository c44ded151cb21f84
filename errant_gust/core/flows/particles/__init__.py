"""Particles: emitted from shapes, carried and pushed by fields."""
