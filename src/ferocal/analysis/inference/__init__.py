"""From readings to effects: contrasts, intervals, families, looks, noise floors, power.

Imports `ferocal.analysis.data`.
"""
