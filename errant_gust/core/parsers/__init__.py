"""Parsers of other people's making, each a script of its own that a child process runs (see `core/child.py`)."""
