"""Regions and the grids that fill them."""
