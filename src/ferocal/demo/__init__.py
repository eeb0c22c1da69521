"""The planetarium scenario: a made-up study on a simulated bench whose truth is known.

Imports `ferocal.study` and the effects of `ferocal.analysis`; the bench imports nothing.
"""
