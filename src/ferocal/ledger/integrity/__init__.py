"""What shows that a ledger is as it was written: seals of rows, and what a row may hold.

Imports the tables; knows neither the store nor what reads and writes it.
"""
