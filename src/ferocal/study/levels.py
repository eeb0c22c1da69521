"""A level added to a study file, which otherwise stays as it is."""

from __future__ import annotations

import contextlib
import datetime
import logging
import re
import shutil
import tomllib
from codecs import BOM_UTF8
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from ferocal.errors import FerocalError, StudyFileError, UsageError
from ferocal.study.load import STUDY_FILE, Study, load_study, understand
from ferocal.terms.files import replace_file, scratch_directory
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.signs import visible

# What is of one level alone.
_OWN = ("date", "note")


@dataclass(frozen=True)
class AddedLevel:
    """A level as it was added: the study with it, its line, and what is left to do."""

    study: Study
    line: int
    missing: str


def add_level(
    directory: Path,
    factor: str,
    name: str,
    *,
    like: str | None = None,
    date: datetime.date | None = None,
    note: str = "",
) -> AddedLevel:
    """Write a level below the others of its factor; comments and all else stay.

    What it has is that of ``like``, with its name in place of the other, or nothing.

    Raises
    ------
    UsageError
        When a name is unknown or taken, when the study would make no sense with the level, or when
        the levels stand where none can be added.
    FerocalError
        When the file cannot be written.
    """
    study = load_study(directory)
    known = _levels_of(study, factor)
    if like is not None and like not in known:
        raise UsageError(f'{factor} has no level "{like}"; {closest(like, known)}')
    data = tomllib.loads(study.text)
    level = {} if like is None else _renamed(data["factor"][factor]["level"][like], like, name)
    level = {key: value for key, value in level.items() if key not in _OWN}
    level |= {"date": date} if date is not None else {}
    level |= {"note": note} if note else {}
    added = with_level(study, factor, name, level)
    write_study(added.study)
    return added


def _levels_of(study: Study, factor: str) -> list[str]:
    """The names of the levels of a factor."""
    factors = study.file.factor
    if factor not in factors:
        raise UsageError(f'no factor "{factor}" in this study; {closest(factor, list(factors))}')
    return list(factors[factor].level)


def with_level(study: Study, factor: str, name: str, level: Mapping[str, Any]) -> AddedLevel:
    """A study with a level more, below the others of its factor; nothing is written.

    Where configurations are listed and have this factor alone, there is one more of these too.

    Raises
    ------
    UsageError
        When the name is taken, when the study would make no sense with the level, or when the
        levels stand where none can be added.
    """
    if name in _levels_of(study, factor):
        raise UsageError(f"{factor} has a level {name} already; nothing was changed")
    directory, data = study.directory, tomllib.loads(study.text)
    path = ("factor", factor, "level")
    text, line = _with_table(study.text, path, name, level)
    data["factor"][factor]["level"][name] = dict(level)
    listed = data.get("configuration", {}).get("named")
    if listed is not None and len(study.file.factor) == 1:
        text, _ = _with_table(text, ("configuration", "named"), name, {factor: name})
        listed[name] = {factor: name}
    if not _says(text, data):
        raise UsageError(
            f"{directory / STUDY_FILE}: the levels of {factor} have no separate tables, such as "
            f"[factor.{factor}.level.{name}]; add it by hand, nothing was changed"
        )
    try:
        changed = understand(directory, text)
    except StudyFileError as error:
        why = "; ".join(problem.message for problem in error.problems)
        raise UsageError(f"with {name} in {factor}: {why}; nothing was changed") from None
    return AddedLevel(changed, line, _missing(changed, factor, name))


def write_study(study: Study) -> None:
    """Put the text of a study in place of that of its file.

    Raises
    ------
    FerocalError
        When the file cannot be written.
    """
    _write(study.directory / STUDY_FILE, study.text)


@contextlib.contextmanager
def changed_study(study: Study) -> Iterator[None]:
    """Within, the file of a study has its text; if what is done there fails, it is as it was.

    Raises
    ------
    FerocalError
        When the file cannot be written.
    """
    path = (study.directory / STUDY_FILE).resolve()
    with scratch_directory(path.parent, f".{path.name}-") as scratch:
        # A full disk lets files be renamed.
        before = _kept(path, scratch)
        write_study(study)
        try:
            yield
        except BaseException:
            try:
                before.replace(path)
            except OSError as error:
                logging.getLogger(__name__).warning(
                    "%s: keeps what was added to it; it cannot be put back: %s",
                    visible(str(path)), error.strerror,
                )  # fmt: skip
            raise


def _kept(path: Path, scratch: Path) -> Path:
    try:
        return Path(shutil.copy2(path, scratch))
    except OSError as error:
        raise FerocalError(f"{path}: cannot be kept: {error.strerror}") from None


def _renamed(value: Any, old: str, new: str) -> Any:
    """A value in which all texts have another name of a level."""
    if isinstance(value, dict):
        return {key: _renamed(entry, old, new) for key, entry in value.items()}
    if isinstance(value, list):
        return [_renamed(entry, old, new) for entry in value]
    if not isinstance(value, str):
        return value
    return re.sub(rf"(?<![\w-]){re.escape(old)}(?![\w-]|\.\w)", lambda _: new, value)


def _with_table(
    text: str, path: Sequence[str], name: str, content: Mapping[str, Any]
) -> tuple[str, int]:
    """The text with a table below the last one of its path, and its line."""
    import tomli_w

    nested: dict[str, Any] = {name: dict(content)}
    for key in reversed(path):
        nested = {key: nested}
    lines = text.splitlines(keepends=True)
    headers = [n for n, line in enumerate(lines) if re.match(r"\s*\[", line)]
    own = [n for n in headers if _is_below(lines[n], path)]
    end = next((n for n in headers if own and n > own[-1]), len(lines))
    while end and (not lines[end - 1].strip() or lines[end - 1].lstrip().startswith("#")):
        end -= 1
    newline = "\r\n" if "\r\n" in text else "\n"
    before = "".join(lines[:end])
    gap = newline if before.endswith(("\n", "\r")) else 2 * newline
    added = tomli_w.dumps(nested).replace("\n", newline)
    return before + gap + added + "".join(lines[end:]), end + 2


def _is_below(header: str, path: Sequence[str]) -> bool:
    """Whether a line is the header of a table of a path, or of a part of one."""
    keys = re.findall(r"\"([^\"]*)\"|'([^']*)'|([\w-]+)", header.partition("#")[0])
    return ["".join(key) for key in keys][: len(path)] == [*path]


def _says(text: str, data: dict[str, Any]) -> bool:
    """Whether a text is valid and says just that, with the levels in this order."""
    try:
        found = tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        return False
    orders = [
        [list(factor.get("level", {})) for factor in known["factor"].values()]
        for known in (found, data)
    ]
    return found == data and orders[0] == orders[1]


def _missing(study: Study, factor: str, name: str) -> str:
    """What is left to do before the level is measured, "" for nothing."""
    order = study.file.factor[factor].order
    if isinstance(order, tuple) and name not in order:
        return f"`order` of {factor} names its releases: add {name} where it belongs"
    if all(c.levels[factor] != name for c in study.configurations):
        return f"no configuration has {name}: add one under [configuration]"
    return ""


def _write(path: Path, text: str) -> None:
    """Put a text in place of that of a file, all of it or nothing."""
    path = path.resolve()
    try:
        mark = "\ufeff" if path.read_bytes().startswith(BOM_UTF8) else ""
        replace_file(path, mark + text, durable=True, mode=path.stat().st_mode & 0o7777)
    except OSError as error:
        raise FerocalError(f"{path}: cannot be written: {error.strerror}") from None
