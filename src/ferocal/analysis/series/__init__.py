"""Releases that follow each other: where a metric changed, how, and where to look next."""
