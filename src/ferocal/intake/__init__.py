"""Readings and traces that come from elsewhere: formats of files, checks, people.

Imports `ferocal.study`, `ferocal.traces` and the ledger; knows nothing that measures or reads.
"""
