"""What the columns of a capture are: recognised where that is certain, refused where it is not."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np

from ferocal.intake.trace_text import Decimal, NumberColumns
from ferocal.study.metrics import Metric
from ferocal.study.sources import LOADED, TraceSource
from ferocal.terms.bounds import LONGEST_MEDIAN, SHORTEST_MEDIAN
from ferocal.terms.frozen import dataclass
from ferocal.terms.numbers import significant
from ferocal.terms.units import TIME, UnitError, convert
from ferocal.traces.capture import CaptureColumns, TraceError
from ferocal.traces.frames import from_stamps

RATE = "fps"
# Words of names, and the units that they stand for.
_UNITS = {
    **dict.fromkeys(("ms", "msec", "millisecond", "milliseconds"), "ms"),
    **dict.fromkeys(("s", "sec", "second", "seconds"), "s"),
    **dict.fromkeys(("us", "\N{MICRO SIGN}s", "\N{GREEK SMALL LETTER MU}s", "microseconds"), "us"),
    **dict.fromkeys(("ns", "nanoseconds"), "ns"),
    **dict.fromkeys(("min", "minute", "minutes"), "min"),
    **dict.fromkeys(("h", "hour", "hours"), "h"),
    **dict.fromkeys(("fps", "framerate"), RATE),
}
_COUNT_NAMES = {"frame", "index", "n", "nr", "no", "number", "id", "sample", "row", "", "count"}
_TIME_NAMES = {"time", "timestamp", "stamp", "t", "elapsed", "clock"}
_DURATION_NAMES = {"frametime", "duration", "delta", "dt"}
# Fewer numbers may rise by chance.
_FEWEST = 8
# Times further apart than the first (s) are no seconds, nearer than the second (ms) no ms.
_LONGEST_INTERVAL, _SHORTEST_MS = 60.0, 500.0


@dataclass(frozen=True)
class CaptureForm:
    """How captures are written, where that is not as the study file says; None where it is."""

    column: str | None = None
    skip: int | None = None
    unit: str | None = None
    time: str | None = None
    time_unit: str | None = None
    interval: float | None = None
    stamps: bool = False
    decimal: Decimal | None = None


@dataclass(frozen=True)
class Understood:
    """A capture in the unit of its metric, with times in seconds, and what was recognised."""

    columns: CaptureColumns
    said: tuple[str, ...]


def understand(
    columns: NumberColumns, metric: Metric, form: CaptureForm, *, doubtful: bool = False
) -> Understood:
    """The columns of a capture by their roles.

    Where the commas in its numbers are ``doubtful``, sizes decide that they are decimal signs.

    Raises
    ------
    TraceError
        When it is not certain which column is what, or in which unit; it names the option to say.
    """
    _refuse_unused(metric, form)
    reader = _Frames(metric, form) if metric.kind == "frames" else _Soak(metric, form)
    return reader.read(columns, doubtful=doubtful)


def _refuse_unused(metric: Metric, form: CaptureForm) -> None:
    """Refuse what is said of a capture and means nothing for its kind."""
    if metric.kind == "frames" and form.interval is not None:
        raise TraceError("--interval is for soaks: frames have their lengths")
    if metric.kind != "frames" and form.stamps:
        raise TraceError("--stamps is for frames: name the times of a soak with --time")
    if form.time is not None and form.interval is not None:
        raise TraceError("--time and --interval both say when values were taken: leave out one")


class _Reader:
    """What all kinds of captures share: the source, what was said, and the names of roles."""

    def __init__(self, metric: Metric, form: CaptureForm) -> None:
        assert isinstance(metric.source, TraceSource)
        self.metric, self.form, self.source = metric, form, metric.source
        self.said: list[str] = []

    def name_of_value(self, columns: NumberColumns) -> str:
        """The column of the values: named, the only one, or recognised."""
        named = self.form.column or self.source.column
        if named is not None:
            return named
        name = next(iter(columns)) if list(columns) == [""] else self.recognise(columns)
        if name is None:
            known = ", ".join(list(columns)[:12]) or "none of numbers"
            raise TraceError(
                f"which of its columns ({known}) has the values? name it with --column NAME"
            )
        if len(columns) > 1:
            self.said.append(f'the values are in column "{name}"')
        return name

    def recognise(self, columns: NumberColumns) -> str | None:
        """The column of the values, None where that is not certain."""
        raise NotImplementedError

    def column(self, columns: NumberColumns, name: str) -> np.ndarray:
        """A column without what is warm-up; an infinite number in it is refused."""
        if name not in columns:
            known = ", ".join(list(columns)[:12]) or "none"
            raise TraceError(f'no column "{name}" of numbers; the columns are {known}')
        values = columns[name][self.source.skip :]
        if np.isinf(values).any():
            place = int(np.argmax(np.isinf(values))) + 1
            of = f" of {name}" if name else ""
            raise TraceError(f"value {place}{of} is not a finite number")
        return values

    def time_unit(self, name: str, times: np.ndarray) -> str:
        """The unit of a column of times: said, in its name, or by how far apart they are."""
        stated = self.form.time_unit or unit_in(name)
        if stated is not None and stated != RATE:
            if stated not in ("s", self.form.time_unit):
                self.said.append(f"times are in {stated}, as their column is called")
            return stated
        if len(times) < 2:
            return "s"
        apart = float(np.median(_steps(times)))
        if apart <= _LONGEST_INTERVAL:
            return "s"
        if apart >= _SHORTEST_MS:
            self.said.append(f'"{name}" is in ms: its times are {apart:g} apart')
            return "ms"
        raise TraceError(f'times in "{name}" are {apart:g} apart: say in which --time-unit')


class _Frames(_Reader):
    """Captures of frames: durations, time stamps, or rates of single frames."""

    def read(self, columns: NumberColumns, *, doubtful: bool) -> Understood:
        """The durations, in the unit of the metric."""
        name = self.name_of_value(columns)
        values = self.column(columns, name)
        stamps = self.form.stamps or self.source.stamps
        if not stamps and _rises(values) and not self._is_rate(name):
            stamps = True
            self.said.append("they rise throughout: time stamps, of which the differences are kept")
        if self._is_rate(name):
            if self.form.stamps:
                what = f'"{name}" has' if name else "it holds"
                raise TraceError(f"{what} rates, no time stamps: leave out --stamps")
            self._check_rates(name, values, columns)
            with np.errstate(divide="ignore"):
                times = convert(1.0, "s", self.metric.unit) / values
            self.said.append("they are rates of single frames, kept as durations")
            return Understood({"value": times}, tuple(self.said))
        lengths = from_stamps(values) if stamps else values
        unit = self._unit(name, lengths)
        if doubtful and not is_plausible(lengths, unit):
            raise TraceError(
                f"its numbers, such as {significant(float(values[0]), 5)}, may have a comma "
                "between thousands or as decimal sign: say --decimal comma or --decimal point"
            )
        if len(lengths) and not is_plausible(lengths, unit):
            middle = significant(float(np.median(lengths)), 3)
            self.said.append(f"half of the frames last {middle} {unit} or more: another --unit?")
        factor = convert(1.0, unit, self.metric.unit)
        # Stamps of the study file are made durations of later, as in runs that it measures.
        kept = values if self.source.stamps else lengths
        return Understood({"value": kept * factor if factor != 1 else kept}, tuple(self.said))

    def recognise(self, columns: NumberColumns) -> str | None:
        """The only duration by name, the only rate, the only one that does not rise, the stamps."""
        rest = {n: v for n, v in columns.items() if not _counts(n, v)}
        durations = [n for n in rest if _is_duration(n)]
        rates = [n for n in rest if unit_in(n) == RATE]
        rising = [n for n, v in rest.items() if _rises(v) or _is_time(n)]
        free = [n for n in rest if n not in rising]
        for found in (durations, free, [] if free else rising):
            if found:
                return found[0] if len(found) == 1 else None
        return rates[0] if len(rates) == 1 else None

    def _is_rate(self, name: str) -> bool:
        return self.form.unit == RATE or (self.form.unit is None and unit_in(name) == RATE)

    def _check_rates(self, name: str, rates: np.ndarray, columns: NumberColumns) -> None:
        """Refuse rates that are no single frame's, or of which that is not known."""
        if self.form.unit == RATE:
            return
        times = [n for n, v in columns.items() if n != name and (_is_time(n) or _rises(v))]
        times = [n for n in times if not _counts(n, columns[n])]
        if len(times) == 1:
            stamps = columns[times[0]]
            unit = self.time_unit(times[0], stamps)
            apart = float(np.median(_steps(stamps))) * TIME[unit]
            if 0.5 < apart * float(np.median(rates)) < 2:
                return
            raise TraceError(
                f'"{name}" has rates {apart:.3g} s apart: averages, of which no frames can be '
                "known; capture the time of every frame"
            )
        raise TraceError(f'"{name}" has rates: if each is that of a single frame, say --unit fps')

    def _unit(self, name: str, lengths: np.ndarray) -> str:
        """The unit of durations: said, in the name, the study's, or the only plausible one."""
        unit = self.form.unit or unit_in(name)
        if unit is not None:
            if unit not in TIME:
                raise TraceError(f'"{name}" is in {unit}, which is no time: say another --column')
            if unit != self.metric.unit and self.form.unit is None:
                self.said.append(f"they are in {unit}, as the column is called")
            return unit
        unit = self.metric.unit
        if not _cannot_be(lengths, unit):
            return unit
        # Not only half of them, as a single wrong number among few could have it.
        ends = np.quantile(lengths, (0.1, 0.9)) if len(lengths) >= _FEWEST else np.zeros(0)
        others = [
            u for u in ("s", "ms", "us", "ns")
            if u != unit and len(ends) and all(is_plausible(end, u) for end in ends[:, None])
        ]  # fmt: skip
        if len(others) == 1:
            middle = significant(float(np.median(lengths)), 3)
            self.said.append(f"they are in {others[0]}: half of the frames last {middle} or more")
            return others[0]
        return unit


class _Soak(_Reader):
    """Captures of soaks: values with their times, or evenly apart."""

    def read(self, columns: NumberColumns, *, doubtful: bool) -> Understood:
        """The values in the unit of the metric, with times where there are any."""
        name = self.name_of_value(columns)
        if doubtful and self.form.decimal is None:
            raise TraceError(
                "its numbers may have a comma between thousands or as decimal sign: say "
                "--decimal comma or --decimal point"
            )
        found: dict[str, np.ndarray] = {}
        found["value"] = self.column(columns, name) * self._factor(name)
        time = self.form.time or self.source.time
        # What is said counts more than what is recognised.
        if time is None and self.source.column is None and self.form.interval is None:
            time = self._time(columns, name)
        if time is not None:
            times = self.column(columns, time)
            found["time"] = times * TIME[self.time_unit(time, times)]
        elif (interval := self.form.interval or self.source.interval) is not None:
            found["time"] = np.arange(len(found["value"])) * interval
        elif self.source == LOADED:
            raise TraceError(
                "has no times: name their column with --time, or say how far apart values are "
                "with --interval"
            )
        for channel in self.source.channels:
            found[channel.role] = self.column(columns, channel.name)
        used = {name, time, *(c.name for c in self.source.channels)}
        left = [n for n, v in columns.items() if n not in used and not _counts(n, v)]
        if left:
            self.said.append(f"left out: {', '.join(left[:8])}")
        return Understood(found, tuple(self.said))

    def recognise(self, columns: NumberColumns) -> str | None:
        """The only column left beside times and counts, or the one named like the metric."""
        channels = {channel.name for channel in self.source.channels}
        time = self._time(columns, None)
        free = [n for n, v in columns.items() if n not in channels | {time} and not _counts(n, v)]
        if len(free) == 1:
            return free[0]
        wanted = {self.metric.unit.casefold()}
        named = [n for n in free if wanted & set(_words(n)) or unit_in(n) == self.metric.unit]
        return named[0] if len(named) == 1 else None

    def _time(self, columns: NumberColumns, value: str | None) -> str | None:
        others = {n: v for n, v in columns.items() if n != value}
        named = [n for n in others if _is_time(n)]
        rising = [n for n, v in others.items() if _rises(v) and not _counts(n, v)]
        found = named or rising
        if len(found) > 1:
            raise TraceError(f"several columns of times ({', '.join(found)}): name one with --time")
        return found[0] if found else None

    def _factor(self, name: str) -> float:
        """What makes values those of the metric's unit."""
        unit = self.form.unit or (unit_in(name) if self.metric.unit in _UNITS.values() else None)
        if unit is None:
            return 1.0
        try:
            return convert(1.0, unit, self.metric.unit)
        except UnitError as error:
            raise TraceError(f'"{name}": {error}; say its --unit, or another --column') from None


def is_plausible(lengths: np.ndarray, unit: str) -> bool:
    """Whether durations can be those of frames: half of them neither very short nor very long."""
    if not len(lengths):
        return True
    middle = float(np.median(lengths)) * TIME[unit] / TIME["ms"]
    return SHORTEST_MEDIAN <= middle <= LONGEST_MEDIAN


def _cannot_be(lengths: np.ndarray, unit: str) -> bool:
    """Whether no frames last so long, or so short: ten thousand a second, one in five seconds."""
    if not len(lengths):
        return False
    middle = float(np.median(lengths)) * TIME[unit]
    return not 1e-4 <= middle <= 5


def unit_in(name: str) -> str | None:
    """The unit that a name ends with, such as "frame time (ms)" or "elapsed_s"."""
    words = _words(name)
    if len(words) > 1 and words[-2:] == ["frame", "rate"]:
        return RATE
    return _UNITS.get(words[-1]) if words else None


def _words(name: str) -> list[str]:
    return [word for word in re.split(r"[^\w/%°]+|_", name.casefold()) if word]


def _is_time(name: str) -> bool:
    words = _words(name)
    return (bool(_TIME_NAMES & set(words)) and not _is_duration(name)) or name in ("s", "second")


def _is_duration(name: str) -> bool:
    words = set(_words(name))
    return bool(words & _DURATION_NAMES) or {"frame", "time"} <= words


def _counts(name: str, values: np.ndarray) -> bool:
    """Whether a column numbers the rows."""
    steady = len(values) > 1 and bool((_steps(values) == 1).all())
    numbered = name.isdecimal() or set(_words(name) or [""]) <= _COUNT_NAMES
    return steady and numbered


def _rises(values: np.ndarray) -> bool:
    """Whether numbers rise throughout, too many to do so by chance."""
    return len(values) >= _FEWEST and bool((_steps(values) > 0).all())


def _steps(values: np.ndarray) -> np.ndarray:
    """How far apart neighbours are; columns that are only looked at may be infinite."""
    with np.errstate(invalid="ignore"):
        return np.diff(values)


def notes_of(understood: Mapping[str, Sequence[str]]) -> list[str]:
    """What was recognised, once for all files of which the same is said."""
    files: dict[str, list[str]] = {}
    for file, said in understood.items():
        if said:
            files.setdefault("; ".join(said), []).append(file)
    return [
        f"{names[0] if len(names) == 1 else f'{len(names)} files'}: {text}"
        for text, names in files.items()
    ]
