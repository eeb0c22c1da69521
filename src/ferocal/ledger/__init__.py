"""The store of everything recorded: tables, migrations, what writes and what reads, apart.

What reads asks the driver of the database in SQL, so that a short command loads no more; what
writes and migrates goes through SQLAlchemy, whose tables are made from the same description.
Imports `ferocal.traces`, which are packed in it; knows nothing of analysis.
"""
