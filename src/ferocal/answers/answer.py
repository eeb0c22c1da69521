"""What every answer says of the study and the ledger behind it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.criteria import CriteriaChange, StudyChange
    from ferocal.answers.evidence import Evidence
    from ferocal.ledger.reading.corrections import CorrectedReading
    from ferocal.study.load import Study


@dataclass(frozen=True)
class Doubts:
    """The comparisons with the baseline that an answer rests on, with their caveats.

    ``levels`` are by configuration, those of the baseline first.
    """

    effects: tuple[Effect, ...]
    levels: Mapping[str, Mapping[str, str]]


@dataclass(frozen=True, kw_only=True)
class Answer:
    """An answer to the question of a study.

    ``margin`` is that of the study, a share, and ``confidence`` the level of intervals.
    ``criteria_changes`` and ``study_changes`` are what of the study file was changed after the
    first reading; ``excluded`` counts runs that are marked as not to be used, ``left_out``
    readings that the study file no longer knows; ``corrected`` are readings that were wrong.
    ``doubts`` are the comparisons that the answer rests on; None where it has them itself.
    """

    question: str
    margin: float
    confidence: float
    criteria_changes: tuple[CriteriaChange, ...]
    study_changes: tuple[StudyChange, ...]
    excluded: int
    left_out: int
    corrected: tuple[CorrectedReading, ...]
    doubts: Doubts | None = None


def basis_of(study: Study, evidence: Evidence, doubts: Doubts | None = None) -> dict[str, Any]:
    """What an answer from this evidence says of the study and the ledger, by field."""
    basis = Answer(
        question=study.head.question,
        margin=study.head.margin,
        confidence=evidence.confidence,
        criteria_changes=evidence.criteria_changes,
        study_changes=evidence.study_changes,
        excluded=evidence.excluded,
        left_out=evidence.left_out,
        corrected=evidence.corrected,
        doubts=doubts,
    )
    return vars(basis)
