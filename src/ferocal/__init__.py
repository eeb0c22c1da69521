"""Ferocal: which software configuration changes the scores, and by how much."""

__version__ = "0.1.0"
