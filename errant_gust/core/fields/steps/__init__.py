"""The steps of field lanes, one module a family; every module here defines its own as it is imported."""

import importlib
import pkgutil

for found in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{found.name}")
