"""Particles: emitted from shapes, carried by fields."""
