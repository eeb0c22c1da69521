"""Print docs/json.md from the schemas of what is printed.

Run it with `python docs/make_json.py > docs/json.md` when a schema has changed.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from typing import Any

from ferocal.documents.objects.index import OBJECTS

# What objects are called, by the titles of their schemas.
NAMES: dict[str, str] = {}

HEAD = """\
# JSON output

Every reading command prints one object with `--json`. Numbers are never rounded, what is not
known is `null`, shares are numbers (0.034 is +3.4 %), times are ISO 8601 in UTC. Keys are
stable: they are added to, never renamed within a major version. A type with a "?" may be null.
This page is made from the schemas in the code (`docs/make_json.py`).
"""
EXPORT = """
## `ferocal export FILE.json`
`readings`: a list of objects with `bench`, `configuration`, `factor:NAME` (the level of each
factor), `round`, `visit`, `run`, `started_at`, `workload`, `metric`, `unit`, `better`, `value`,
`low`, `high` (the ends of a range), `bound`, `samples`, `resolution`, `statistic`, `excluded` (the
reason), `mark` and `reason` (what stands in the place of a reading). CSV and
Parquet have the same columns.
"""


def type_of(part: dict[str, Any]) -> str:
    """The type of a value in words, with "?" where it may be null."""
    if "anyOf" in part:
        known = [type_of(option) for option in part["anyOf"] if option.get("type") != "null"]
        return f"{known[0]}?"
    if "$ref" in part:
        return f"object: {name_of(part['$ref'])}"
    inner = part.get("items") or part.get("additionalProperties") or {}
    kind = str(part["type"])
    if not inner or inner is True:
        return kind
    of = type_of(inner)
    name = of.removeprefix("object: ")
    return f"{kind} of {of}" if name == of else f"{kind}: {name}"


def name_of(reference: str) -> str:
    """What an object is called to which a schema refers."""
    return NAMES[reference.rpartition("/")[2]].lower()


def section(schema: dict[str, Any]) -> Iterator[str]:
    """The keys of an object as a table."""
    yield f"\n## {schema['description'].rstrip('.')}"
    yield "| key | type | meaning |"
    yield "|---|---|---|"
    for name, part in schema["properties"].items():
        unit = f" ({part['unit']})" if "unit" in part else ""
        yield f"| `{name}` | {type_of(part)} | {part['description']}{unit} |"


def main() -> None:
    """Print the page."""
    found: dict[str, dict[str, Any]] = {}
    for made in OBJECTS.values():
        schema = made.json_schema()
        for part in (schema, *schema.get("$defs", {}).values()):
            found.setdefault(part["title"], part)
    NAMES.update((title, part["description"].rstrip(".")) for title, part in found.items())
    lines = [line for schema in found.values() for line in section(schema)]
    sys.stdout.write(HEAD + "\n".join(lines) + "\n" + EXPORT)


if __name__ == "__main__":
    main()
