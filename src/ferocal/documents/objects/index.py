"""What every command prints with ``--json``."""

from __future__ import annotations

from ferocal.documents.objects.across import ACROSS
from ferocal.documents.objects.between import BETWEEN
from ferocal.documents.objects.claims import CLAIMS
from ferocal.documents.objects.factors import FACTORS
from ferocal.documents.objects.inspect import INTEGRITY, KEPT, OVERHEAD
from ferocal.documents.objects.noise import LOOK
from ferocal.documents.objects.rank import RANKING
from ferocal.documents.objects.references import REFERENCES
from ferocal.documents.objects.results import (
    COMPARISON,
    INSPECTION,
    NOISE_FLOORS,
    NOTES,
    PLAN,
    RUNS,
    TABLE,
    TRACES,
)
from ferocal.documents.objects.separation import SEPARATION
from ferocal.documents.objects.series import SERIES

# By command, what it prints; `frames` stands for both kinds of traces.
DOCUMENTS = {
    "compare": COMPARISON,
    "compare --between api": BETWEEN,
    "compare --across benches": ACROSS,
    "claims": CLAIMS,
    "factors": FACTORS,
    "series firmware": SERIES,
    "rank": RANKING,
    "reference": REFERENCES,
    "table": TABLE,
    "frames": TRACES,
    "runs": RUNS,
    "plan": PLAN,
    "plan --design separate": SEPARATION,
    "inspect": INSPECTION,
    "inspect --noise 1": LOOK,
    "inspect --overhead": OVERHEAD,
    "inspect --integrity": INTEGRITY,
    "inspect --kept": KEPT,
    "noise-floor": NOISE_FLOORS,
    "note": NOTES,
}
