"""Carrying out a plan on a bench: switch, verify, settle, run, extract, record.

Imports the ledger and every floor below it, and `ferocal.intake`; knows no answers.
"""
