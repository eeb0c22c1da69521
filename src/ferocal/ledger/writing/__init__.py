"""What writes the ledger: runs, batches, marks, notes, noise floors, merges.

Imports the store and its schema, and what reads where it has to look first.
"""
