"""The heart: effects, verdicts and caveats as pure functions on arrays.

Imports NumPy, SciPy and `ferocal.terms` alone: no files, no printing, no other layer.
"""
