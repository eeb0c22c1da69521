"""Series within a run: kinds of traces, what is computed of them, how they are kept.

Imports `ferocal.analysis` and `ferocal.terms`; knows neither study files nor stores.
"""
