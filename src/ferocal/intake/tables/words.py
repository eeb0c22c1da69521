"""What the words in tables mean: one table of names of columns, and one of summaries."""

from __future__ import annotations

import functools
import re
import unicodedata

from ferocal.terms.frozen import dataclass
from ferocal.terms.units import QUANTITIES

# What people call a column, by what it is; ours come first.
COLUMN_NAMES: dict[str, tuple[str, ...]] = {
    "configuration": ("configuration", "config", "setup", "variant", "arm"),
    "workload": ("workload", "benchmark", "test", "test case", "testcase", "scene", "task"),
    "metric": ("metric", "measure", "measurement", "quantity", "counter"),
    "value": ("value", "result", "reading", "measured value", "measured"),
    "unit": ("unit", "units"),
    "better": ("better", "direction"),
    "round": ("round",),
    "visit": ("visit", "session", "boot"),
    "run": ("run", "repeat", "repetition", "iteration", "trial", "attempt", "pass", "run no"),
    "bench": ("bench", "machine", "device", "computer", "test bench"),
    "started_at": ("started_at", "date", "started at", "timestamp", "date and time", "measured on"),
    "low": ("low",),
    "high": ("high",),
    "samples": ("samples", "n", "number of runs"),
    "resolution": ("resolution",),
    "excluded": ("excluded",),
    "bound": ("bound",),
    "statistic": ("statistic",),
    "mark": ("mark",),
    "reason": ("reason",),
    "role": ("role",),
    "margin": ("margin",),
    "version": ("version", "app version", "workload version", "program version"),
    "architecture": ("architecture", "arch", "cpu architecture", "instruction set"),
    "group": ("group", "category", "section", "suite"),
    "price": ("price", "cost", "price per hour", "cost per hour", "hourly price"),
    "cores": ("cores", "vcpus", "vcpu", "cpus", "threads"),
    "note": ("note", "notes", "comment", "comments", "remark", "remarks"),
    "source": ("source", "link", "url", "reference"),
    "ambient": ("ambient", "ambient temperature", "room temperature"),
}  # fmt: skip
# Things that are compared: one such column has the configurations, several are factors.
COMPARED = (
    "system", "os", "operating system", "platform", "host", "plan", "browser", "driver",
    "graphics driver", "firmware", "runtime", "release", "api", "graphics api", "backend", "engine",
    "kernel", "compiler", "layer", "database", "player", "emulator", "build", "allocator",
)  # fmt: skip
# Summaries of others, by what they are; columns and rows are called so.
SUMMARIES: dict[str, tuple[str, ...]] = {
    "mean": ("average", "avg", "mean", "ø", "arithmetic mean"),
    "median": ("median", "med"),
    "geometric mean": ("geomean", "geometric mean", "gmean", "geo mean"),
    "sum": ("total", "sum", "overall", "overall total"),
    "minimum": ("min", "minimum", "lowest", "worst", "best"),
    "maximum": ("max", "maximum", "highest", "best", "worst"),
    "standard deviation": (
        "sd", "std", "stdev", "stddev", "std dev", "std deviation", "standard deviation", "s d",
        "σ", "±", "error", "se", "sem",
    ),
    "coefficient of variation": ("cv", "rsd", "coefficient of variation", "rel sd", "cv %"),
    "change": (
        "change", "diff", "difference", "delta", "δ", "%", "% change", "change %", "gain", "loss",
        "speedup", "speed up", "ratio", "improvement", "gain %", "diff %", "vs baseline",
    ),
    "rank": ("rank", "place", "position", "pos"),
    "number": ("nr", "no", "#", "n°", "nº", "number", "index"),
}  # fmt: skip
_RUN_WORD = re.compile(
    r"(?:^|[\s_(-])(?:run|repeat|repetition|rep|trial|iteration|pass|attempt|try|measurement)"
    r"[\s_.#]*(?P<number>\d{1,4})\)?$",
    re.IGNORECASE,
)
_OTHER_UNITS = {
    "sec": "s", "secs": "s", "second": "s", "seconds": "s", "msec": "ms", "milliseconds": "ms",
    "minutes": "min", "hours": "h", "frames per second": "fps", "percent": "%", "pct": "%",
    "pts": "points", "points": "points", "score": "points", "mb/s": "MB/s", "gb/s": "GB/s",
}  # fmt: skip
_KNOWN_UNITS = {unit: unit for quantity in QUANTITIES for unit in quantity.units}
_SMALL_UNITS: dict[str, set[str]] = {}
for _unit in _KNOWN_UNITS:
    _SMALL_UNITS.setdefault(_unit.casefold(), set()).add(_unit)
# What a change may be called besides, as a word of a longer name.
_CHANGE_WORDS = frozenset({"change", "diff", "difference", "delta", "relative", "vs", "gain"})
_RATE = re.compile(
    r"[A-Za-zµ°%€$£]{0,12}(?:/(?:s|ms|min|h|d|W|J|EUR|USD|hour|month))|EUR|USD|[€$£]|GFLOPS|MPix/s"
)
_PRICE = re.compile(r"(?:€|eur|usd|\$|£|gbp)\s*/\s*(?:h|hour|month)", re.IGNORECASE)
_BRACKETS = re.compile(r"^(?P<name>.*?)\s*[(\[](?P<inner>[^()\[\]]+)[)\]]\s*(?P<rest>[↑↓▲▼]?)$")
_DIRECTION = re.compile(
    r"(?:(?P<higher>higher|more|larger|bigger)|(?P<lower>lower|less|smaller|shorter|fewer)) is "
    r"better|(?P<up>[↑▲])|(?P<down>[↓▼])",
    re.IGNORECASE,
)


@functools.lru_cache(maxsize=2**14)
def small(text: str) -> str:
    """A name as it is compared with known ones: without case, punctuation and double blanks."""
    folded = unicodedata.normalize("NFKC", text).casefold()
    return re.sub(r"[\s_.:-]+", " ", folded).strip()


_ROLE_OF = {small(name): role for role, names in COLUMN_NAMES.items() for name in names}
_COMPARED = {small(name) for name in COMPARED}


def role_by_name(name: str) -> str | None:
    """What a column is by its name, None where that does not say it."""
    return "price" if _PRICE.fullmatch(name.strip()) else _ROLE_OF.get(small(name))


def is_compared(name: str) -> bool:
    """Whether a column is named like things that are compared."""
    return small(name) in _COMPARED


@functools.lru_cache(maxsize=2**14)
def summaries_of(name: str) -> tuple[str, ...]:
    """Of what summaries a column or row may be, by its name."""
    wanted = small(HeaderCell.of(name).name or name)
    found = tuple(kind for kind, names in SUMMARIES.items() if wanted in names)
    return found or (("change",) if _CHANGE_WORDS & set(wanted.split()) else ())


def run_number(name: str) -> tuple[str, int] | None:
    """What stands before "run 3" in a name, and its number; None for any other name."""
    match = _RUN_WORD.search(name.strip())
    if match is None:
        alone = re.fullmatch(r"#?\s*(\d{1,4})", name.strip())
        return ("", int(alone[1])) if alone else None
    return name.strip()[: match.start()].rstrip(" ,:(-_"), int(match["number"])


def unit_of(text: str) -> str | None:
    """The unit that a text is, None if it is none that is known."""
    text = text.strip()
    if text in _KNOWN_UNITS:
        return text
    other = _OTHER_UNITS.get(text.casefold())
    if other is not None:
        return other
    alike = _SMALL_UNITS.get(text.casefold(), set())
    if len(alike) == 1 and len(text) > 1:
        return next(iter(alike))
    return text if _RATE.fullmatch(text) else None


def direction_in(text: str) -> str:
    """Which direction a text says is better, "" if it says none."""
    match = _DIRECTION.search(text)
    if match is None:
        return ""
    return "higher" if match["higher"] or match["up"] else "lower"


@dataclass(frozen=True)
class HeaderCell:
    """The name of a column with the unit and the direction that it states, "" for none."""

    name: str
    unit: str
    better: str

    @classmethod
    def of(cls, text: str) -> HeaderCell:
        """What "Load time (s)", "load_ms" or "Frame rate, fps ↑" states."""
        text = text.strip()
        better = direction_in(text)
        bare = _DIRECTION.sub("", text).strip(" ,;")
        bare = re.sub(r"[(\[][\s,;]*[)\]]", "", bare).strip()
        match = _BRACKETS.match(bare)
        if match:
            unit = unit_of(match["inner"].strip(" ,;"))
            if unit is not None:
                return cls(match["name"].strip() or unit, unit, better)
        for pattern in (r"(.+),\s*(\S+)", r"(.+)\s+in\s+(\S+)", r"(.*[A-Za-z])_([A-Za-zµ%]+)"):
            match = re.fullmatch(pattern, bare)
            unit = unit_of(match[2]) if match else None
            if match and unit is not None:
                return cls(match[1].strip(), unit, better)
        return cls(bare, _unit_as_name(bare), better)


def _unit_as_name(name: str) -> str:
    """The unit that a whole name is, such as fps or MB/s; a letter or "Min" rather is a name."""
    if len(name) > 1 and small(name) != "min" and (unit := unit_of(name)):
        return unit
    return "fps" if re.search(r"\bfps\b", name, re.IGNORECASE) else ""
