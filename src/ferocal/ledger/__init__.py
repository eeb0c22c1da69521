"""The store of everything recorded: schema, migrations, what writes and what reads, apart.

Imports `ferocal.traces`, which are packed in it; knows nothing of analysis.
"""
