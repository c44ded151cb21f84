"""Flows: what fields carry. Importing the package defines every kind, and the steps of their lanes."""

import importlib
import pkgutil

for found in pkgutil.iter_modules(__path__):
    if found.ispkg:
        importlib.import_module(f"{__name__}.{found.name}.kind")
