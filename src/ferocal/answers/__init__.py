"""One module per question that an analyst asks: evidence, analysis, a frozen result.

Imports the ledger's reading half, `ferocal.analysis`, `ferocal.plan` and `ferocal.bench`; never
writes, and knows neither how a result is shown nor how runs are taken.
"""
