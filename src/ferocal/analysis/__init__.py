"""The heart: effects, verdicts and caveats as pure functions on arrays.

NumPy and SciPy only; no files, no printing, no other layer but `ferocal.study`.
"""
