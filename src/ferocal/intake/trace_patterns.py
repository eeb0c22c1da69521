"""Captures by a pattern of their names, which says of which bench, levels and visit each is."""

from __future__ import annotations

import glob
import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from ferocal.errors import IntakeError, UsageError
from ferocal.intake.placed import ReadingPlace
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest, resolve

if TYPE_CHECKING:
    from ferocal.study.load import Study

_FIELD = re.compile(r"\{([^{}]*)\}")
_WORD = r"[^\W_]+"
_FREE = ("visit", "run", "round")
# So many files that do not fit are named.
_MOST_NAMED = 8


@dataclass(frozen=True)
class PlacedFiles:
    """The captures of one run, and where it belongs."""

    place: ReadingPlace
    files: tuple[Path, ...]


def is_pattern(text: str) -> bool:
    """Whether a name stands for several files, with fields such as {visit}."""
    return _FIELD.search(text) is not None


def place_files(place: ReadingPlace, files: Sequence[Path], *, separate: bool) -> list[PlacedFiles]:
    """Files of one place: captures of one run, or each of a separate one."""
    if not separate:
        return [PlacedFiles(replace(place, run="1"), tuple(files))]
    return [PlacedFiles(replace(place, run=str(n)), (file,)) for n, file in enumerate(files, 1)]


def find_placed(study: Study, pattern: str, given: ReadingPlace) -> list[PlacedFiles]:
    """The files whose names fit a pattern, each with its place; what it leaves open is ``given``.

    Fields are bench, configuration, workload, metric, visit, round, run and the factors of the
    study. Names in files may have other signs than letters and digits between their words.

    Raises
    ------
    UsageError
        When a field is unknown, or does not say which configuration a file is of.
    IntakeError
        When no file fits, or one fits no known name.
    """
    known = _known_names(study)
    fields = list(dict.fromkeys(_FIELD.findall(pattern)))
    for field in fields:
        if field not in known and field not in _FREE:
            hint = closest(field, [*known, *_FREE])
            raise UsageError(f'"{pattern}": no field "{field}"; {hint}')
    parts = _FIELD.split(pattern)
    wild = "".join("*" if n % 2 else glob.escape(part) for n, part in enumerate(parts))
    # Path.glob raises errors for absolute patterns.
    found = sorted(map(Path, glob.glob(wild)))  # noqa: PTH207
    if not found:
        raise IntakeError(f'"{pattern}": no file fits; nothing was recorded')
    expression = _expression(parts, known)
    matches = [(file, expression.fullmatch(str(file))) for file in found]
    wrong = [str(file) for file, match in matches if match is None]
    if wrong:
        names = "; ".join(f"{f}: {', '.join(known[f])}" for f in fields if f in known)
        more = f" and {len(wrong) - _MOST_NAMED} more" if len(wrong) > _MOST_NAMED else ""
        raise IntakeError(
            f"{', '.join(wrong[:_MOST_NAMED])}{more}: fits no known name ({names}); nothing was "
            "recorded"
        )
    return [
        PlacedFiles(_place(study, known, given, dict(_values(match)), number), (file,))
        for number, (file, match) in enumerate(matches, 1)
        if match is not None
    ]


def _known_names(study: Study) -> dict[str, list[str]]:
    """The names that fields can stand for, by field."""
    return {
        "bench": list(study.benches),
        "configuration": [c.name for c in study.configurations],
        "workload": list(study.workloads),
        "metric": list(dict.fromkeys(n for w in study.workloads.values() for n in w.metric)),
        **{name: list(factor.level) for name, factor in study.file.factor.items()},
    }


def _expression(parts: Sequence[str], known: dict[str, list[str]]) -> re.Pattern[str]:
    """What names of files look like; a field that comes again has the same text again."""
    pieces, seen = [], set[str]()
    for n, part in enumerate(parts):
        if n % 2 == 0:
            pieces.append(re.escape(part))
        elif part in seen:
            pieces.append(f"(?P={_group(part)})")
        else:
            seen.add(part)
            pieces.append(f"(?P<{_group(part)}>{_choices(part, known)})")
    return re.compile("".join(pieces), re.IGNORECASE)


def _choices(field: str, known: dict[str, list[str]]) -> str:
    if field == "round":
        return r"\d+"
    if field not in known:
        return r"[^/]+?"
    # The longest first: of two names one may begin like the other.
    names = sorted(known[field], key=len, reverse=True)
    return "|".join(r"[\s._-]*".join(map(re.escape, re.findall(_WORD, name))) for name in names)


def _group(field: str) -> str:
    """A field as the name of a group, which has letters, digits and underlines only."""
    return "f_" + "_".join(f"{ord(sign):x}" for sign in field)


def _values(match: re.Match[str]) -> Iterator[tuple[str, str]]:
    for group, text in match.groupdict().items():
        yield "".join(chr(int(code, 16)) for code in group.removeprefix("f_").split("_")), text


def _place(
    study: Study,
    known: dict[str, list[str]],
    given: ReadingPlace,
    values: dict[str, str],
    number: int,
) -> ReadingPlace:
    """The place of a file by the texts of the fields in its name."""
    named = {f: _resolved(text, known[f]) if f in known else text for f, text in values.items()}
    levels = {field: name for field, name in named.items() if field in study.file.factor}
    configuration = named.get("configuration") or given.configuration
    if not configuration:
        fitting = [
            c.name
            for c in study.configurations
            if all(c.levels.get(f) == level for f, level in levels.items())
        ]
        said = ", ".join(f"{f}={level}" for f, level in levels.items()) or "the pattern"
        if len(fitting) != 1:
            fit = "fits no configuration" if not fitting else f"fits {', '.join(fitting[:8])}"
            raise UsageError(
                f"{said} {fit}: name the configuration with --configuration, or add its factors "
                "to the pattern"
            )
        configuration = fitting[0]
    return replace(
        given,
        configuration=configuration,
        bench=named.get("bench", given.bench),
        workload=named.get("workload", given.workload),
        metric=named.get("metric", given.metric),
        visit=named.get("visit", given.visit),
        round=int(named["round"]) if "round" in named else given.round,
        run=str(number),
    )


def _resolved(text: str, known: Sequence[str]) -> str:
    """The known name that a text in the name of a file stands for."""
    wanted = re.findall(_WORD, text.casefold())
    same = [n for n in known if re.findall(_WORD, n.casefold()) == wanted]
    return same[0] if len(same) == 1 else resolve(text, known)
