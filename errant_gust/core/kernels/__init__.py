"""Compiled inner loops: plain functions over arrays, no classes. Import them from their modules."""

from errant_gust.tuning import choose_vectors

choose_vectors()  # before the first kernel is defined
