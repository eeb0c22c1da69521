"""Carrying out a plan on a bench: verify, warm up, run, extract, record."""
