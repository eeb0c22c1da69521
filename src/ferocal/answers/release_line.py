"""A line: the configurations that differ in nothing but the release, in its order."""

from __future__ import annotations

import datetime
import math
from collections.abc import Collection, Mapping, Sequence

import numpy as np

from ferocal.analysis.data.readings import Readings
from ferocal.analysis.data.segments import FloatArray
from ferocal.errors import UsageError
from ferocal.study.configurations import CONTROL, is_possible
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest

# A switch without a stated duration costs as much as any other release.
_UNKNOWN_SECONDS = 60.0


@dataclass(frozen=True)
class Release:
    """A level of an ordered factor; ``configuration`` is None where the study has none with it."""

    name: str
    date: datetime.date | None
    note: str
    configuration: str | None


@dataclass(frozen=True)
class ReleaseLine:
    """The configurations that differ in nothing but the release, in the order of the releases."""

    factor: str
    releases: tuple[Release, ...]
    at: Mapping[str, str]
    takes: tuple[float | None, ...]

    def places(self, readings: Readings) -> list[int]:
        """The place of the configuration of each release, −1 where there is none."""
        names = readings.configurations
        return [-1 if r.configuration is None else names.index(r.configuration)
                for r in self.releases]  # fmt: skip

    @property
    def cost(self) -> FloatArray:
        """What a visit to each release costs, infinite where it cannot be made."""
        known = [s for s in self.takes if s is not None]
        return np.array(
            [
                math.inf if r.configuration is None
                else (s if s is not None else (max(known) if known else _UNKNOWN_SECONDS))
                for r, s in zip(self.releases, self.takes, strict=True)
            ]
        )  # fmt: skip


# In place of a configuration: the release before the newest.
PREVIOUS = "previous"


def newest_and(
    study: Study, against: str, visited: Collection[str], levels: Sequence[str] = ()
) -> list[str]:
    """The newest release of the study and the configuration that it is measured against.

    `PREVIOUS` is the last release before it that was ``visited``; the newest is alone where there
    is none. ``levels`` ("build=n31") name another release instead of the newest.

    Raises
    ------
    UsageError
        When no factor has an order, or a name is unknown.
    """
    factor = study.ordered_factor
    if factor is None:
        raise UsageError(
            "the newest release is known where a factor has an `order`, and no factor has one"
        )
    own = [text for text in levels if text.startswith(f"{factor}=")]
    line = find_release_line(study, factor, [text for text in levels if text not in own])
    releases = [r for r in line.releases if r.configuration is not None]
    if own:
        names = [r.name for r in releases]
        wanted = own[-1].partition("=")[2]
        if wanted not in names or len(own) > 1:
            raise UsageError(f"--against takes one level of {factor}; {closest(wanted, names)}")
        releases = releases[: names.index(wanted) + 1]
    *earlier, newest = [r.configuration for r in releases if r.configuration is not None]
    if against == PREVIOUS and PREVIOUS not in study.names:
        return [newest, *[name for name in earlier if name in visited][-1:]]
    other = study.configuration(against).name
    if other == newest:
        raise UsageError(f"{newest} is the newest release: name another one")
    return [newest, other]


def find_release_line(study: Study, factor: str, at: Sequence[str] = ()) -> ReleaseLine:
    """The releases of a factor, with the other factors at the levels of the baseline.

    ``at`` names other levels of these ("driver=r64").

    Raises
    ------
    UsageError
        When a name is unknown, or the factor has no order.
    """
    factors = study.file.factor
    if factor not in factors:
        raise UsageError(f'no factor "{factor}" in this study; {closest(factor, list(factors))}')
    if factors[factor].order is None:
        raise UsageError(
            f'the levels of {factor} have no order: write order = "time" under [factor.{factor}], '
            'with a date for every level, or order = "file" for the order in the file'
        )
    levels = {**study.configuration(study.baseline).levels, **_chosen(study, factor, at)}
    by_levels = {
        tuple(sorted(c.levels.items())): c.name for c in study.configurations if c.name != CONTROL
    }
    releases, takes = [], []
    for name in factors[factor].ordered:
        level = factors[factor].level[name]
        wanted = {**levels, factor: name}
        configuration = by_levels.get(tuple(sorted(wanted.items())))
        if not is_possible(study.file, wanted):
            configuration = None
        releases.append(Release(name, level.date, level.note, configuration))
        takes.append(level.takes)
    others = {f: level for f, level in levels.items() if f != factor}
    return ReleaseLine(factor, tuple(releases), others, tuple(takes))


def _chosen(study: Study, factor: str, at: Sequence[str]) -> dict[str, str]:
    factors = study.file.factor
    known = [f"{f}={v}" for f, table in factors.items() if f != factor for v in table.level]
    for text in at:
        if text not in known:
            hint = closest(text, known) if known else f"{factor} is the only factor"
            raise UsageError(f'no level "{text}" of another factor; {hint}')
    return dict(text.split("=", 1) for text in at)
