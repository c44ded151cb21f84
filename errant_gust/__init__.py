"""Errant Gust: voxel velocity, scalar and noise fields that carry particles and steer simulations."""

__version__ = "0.1.0"
