"""What reads the ledger, in bulk or by subject; never writes it.

Imports the store and its tables, and no SQLAlchemy.
"""
