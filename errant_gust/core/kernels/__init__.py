"""Compiled inner loops: plain functions over arrays, no classes. Import them from their modules."""
