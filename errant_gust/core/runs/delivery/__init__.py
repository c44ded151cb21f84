"""Deliveries: results of runs written for others, with what proves them: names, axes and units as they are wanted, a
manifest with checksums, and reading back."""
