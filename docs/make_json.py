"""Print docs/json.md from the schemas of what is printed.

Run it with `python docs/make_json.py > docs/json.md` when a schema has changed.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator

from ferocal.documents.objects.index import DOCUMENTS
from ferocal.documents.objects.schema import Schema

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


def section(schema: Schema) -> Iterator[str]:
    """The keys of an object as a table."""
    yield f"\n## {schema.title}"
    yield "| key | type | meaning |"
    yield "|---|---|---|"
    for key in schema.keys:
        of = f": {key.of.title.lower()}" if key.of is not None else ""
        yield f"| `{key.name}` | {key.type}{of} | {key.meaning} |"


def schemas(schema: Schema) -> Iterator[Schema]:
    """A schema, and those of the objects in it."""
    yield schema
    for key in schema.keys:
        if key.of is not None:
            yield from schemas(key.of)


def main() -> None:
    """Print the page."""
    found = dict.fromkeys(part for schema in DOCUMENTS.values() for part in schemas(schema))
    lines = [line for schema in found for line in section(schema)]
    sys.stdout.write(HEAD + "\n".join(lines) + "\n" + EXPORT)


if __name__ == "__main__":
    main()
