"""Readings as columns, and what groups them: stretches, visits, arms, cells.

Imports NumPy and `ferocal.terms`.
"""
