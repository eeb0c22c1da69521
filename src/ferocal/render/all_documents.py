"""What every command prints with ``--json``."""

from __future__ import annotations

from ferocal.render.across_documents import ACROSS
from ferocal.render.between_documents import BETWEEN
from ferocal.render.claim_documents import CLAIMS
from ferocal.render.documents import (
    COMPARISON,
    INSPECTION,
    NOISE_FLOORS,
    NOTES,
    PLAN,
    RUNS,
    TABLE,
    TRACES,
)
from ferocal.render.factor_documents import FACTORS
from ferocal.render.integrity import INTEGRITY
from ferocal.render.kept import KEPT
from ferocal.render.look_documents import LOOK
from ferocal.render.plan_documents import SEPARATION
from ferocal.render.rank_documents import RANKING
from ferocal.render.reference_documents import REFERENCES
from ferocal.render.release_documents import SERIES

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
    "inspect --integrity": INTEGRITY,
    "inspect --kept": KEPT,
    "noise-floor": NOISE_FLOORS,
    "note": NOTES,
}
