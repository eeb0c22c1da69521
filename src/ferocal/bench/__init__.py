"""The machine: its facts and conditions, commands run on it, proof of what is active.

Imports `ferocal.study`; knows neither plan nor ledger.
"""
