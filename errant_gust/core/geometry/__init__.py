"""Shapes, meshes, curves, signed distances. Importing the package defines every kind of shape."""

from errant_gust.core.geometry import curve_shape, round_shapes  # noqa: F401  (define kinds of shapes)
