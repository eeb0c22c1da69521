"""Padding of the environment, so that its size favours no configuration.

The size of the environment shifts the stack, and with it the layout of memory and the speed
of a program (Mytkowicz, Diwan, Hauswirth and Sweeney 2009, Producing wrong data without doing
anything obviously wrong, ASPLOS XIV, 265-276). Made equal over the configurations and random
per visit, layout is part of what visits vary by.
"""

from __future__ import annotations

import os
import random
from collections.abc import Mapping

from ferocal.bench.commands import expand
from ferocal.bench.execution import Place
from ferocal.plan.order import PlannedVisit
from ferocal.study.load import Study

_VARIABLE = "FEROCAL_PADDING"
# The random part is below a page, after which the layout repeats.
_PAGE = 4096
# As long as any number of a round or a visit.
_LONGEST = 10**7


def visit_context(planned: PlannedVisit) -> dict[str, str]:
    """Environment variables that say which visit it is."""
    return {
        "FEROCAL_CONFIGURATION": planned.configuration,
        "FEROCAL_ROUND": str(planned.round),
        "FEROCAL_VISIT": str(planned.position),
    }


class Padding:
    """Pads the environments of runs to the size of the largest of the study."""

    def __init__(self, study: Study, place: Place) -> None:
        self._largest = max(
            _size(
                visit_context(PlannedVisit(_LONGEST, _LONGEST, configuration.name)),
                {k: expand(v, place) for k, v in workload.environment.items()},
                {k: expand(v, place) for k, v in configuration.environment.items()},
            )
            for workload in study.workloads.values()
            for configuration in study.configurations
        )

    def pad(self, environment: Mapping[str, str], extra: int | None) -> dict[str, str]:
        """The environment of a run, padded to the common size and ``extra`` bytes.

        It is as it was where ``extra`` is None.
        """
        if extra is None:
            return dict(environment)
        missing = self._largest + extra - _size(environment)
        return {**environment, _VARIABLE: "." * missing}


def random_padding(study: Study, planned: PlannedVisit) -> int | None:
    """The random part of a visit's padding in bytes, from the seed; None where it is off."""
    if not study.head.pad_environment:
        return None
    seed = f"{study.head.seed}/padding/{planned.round}/{planned.configuration}"
    return random.Random(seed).randrange(_PAGE)


def _size(*parts: Mapping[str, str]) -> int:
    """Bytes that the environment takes in memory with these parts added to it."""
    merged = dict(os.environ)
    for part in parts:
        merged.update(part)
    # A sign between, and an end behind each.
    return sum(len(os.fsencode(k)) + len(os.fsencode(v)) + 2 for k, v in merged.items())
