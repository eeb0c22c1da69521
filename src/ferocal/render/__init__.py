"""A result as text, as a JSON object, as a figure, as a page.

Imports the values that `ferocal.analysis` and `ferocal.answers` define; knows no store.
"""
