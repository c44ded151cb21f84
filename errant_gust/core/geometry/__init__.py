"""Shapes: primitives and meshes, where they are over time, how far a point is from them, how to scatter on them."""
