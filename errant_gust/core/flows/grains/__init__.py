"""Grains: sand as material points."""
