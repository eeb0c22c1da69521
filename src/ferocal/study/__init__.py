"""The study file: its model, composed configurations, messages with line and key, criteria.

Imports `ferocal.terms`, and `ferocal.traces` for the kinds of traces that a metric may be.
"""
