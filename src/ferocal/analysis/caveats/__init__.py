"""Reasons for caution, one entry each, and the tests that find them.

Imports `ferocal.analysis.data` and `ferocal.analysis.inference`.
"""
