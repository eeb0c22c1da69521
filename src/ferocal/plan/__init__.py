"""The order of rounds and visits, their cost, and what a plan can and cannot answer.

Imports `ferocal.study` and `ferocal.analysis`; knows no ledger.
"""
