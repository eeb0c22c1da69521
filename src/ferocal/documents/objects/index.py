"""What every command prints with ``--json``."""

from __future__ import annotations

from ferocal.documents.objects.base import Object
from ferocal.documents.objects.claims import ClaimsObject
from ferocal.documents.objects.compare import AcrossObject, BetweenObject, ComparisonObject
from ferocal.documents.objects.factors import FactorsObject
from ferocal.documents.objects.history import HistoryObject
from ferocal.documents.objects.inspect import (
    InspectionObject,
    IntegrityObject,
    KeptObject,
    NoiseObject,
    OverheadObject,
)
from ferocal.documents.objects.lookup import LookupObject
from ferocal.documents.objects.plan import PlanObject, SeparationObject
from ferocal.documents.objects.rank import RankingObject
from ferocal.documents.objects.reference import ReferencesObject
from ferocal.documents.objects.runs import NoiseFloorsObject, NotesObject, RunListObject
from ferocal.documents.objects.series import SeriesObject
from ferocal.documents.objects.table import TableObject, TraceObject

# By command, what it prints; `frames` stands for both kinds of traces.
OBJECTS: dict[str, type[Object]] = {
    "compare": ComparisonObject,
    "compare --between api": BetweenObject,
    "compare --across benches": AcrossObject,
    "claims": ClaimsObject,
    "factors": FactorsObject,
    "series firmware": SeriesObject,
    "rank": RankingObject,
    "reference": ReferencesObject,
    "table": TableObject,
    "frames": TraceObject,
    "runs": RunListObject,
    "history": HistoryObject,
    "lookup 57.70": LookupObject,
    "plan": PlanObject,
    "plan --design separate": SeparationObject,
    "inspect": InspectionObject,
    "inspect --noise 1": NoiseObject,
    "inspect --overhead": OverheadObject,
    "inspect --integrity": IntegrityObject,
    "inspect --kept": KeptObject,
    "noise-floor": NoiseFloorsObject,
    "note": NotesObject,
}
