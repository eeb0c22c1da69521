"""What shows that a ledger is as it was written: seals of rows, and what a row may hold.

Imports the schema; knows neither the store nor what reads and writes it.
"""
