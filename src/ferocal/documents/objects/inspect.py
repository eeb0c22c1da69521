"""JSON objects of what `ferocal inspect` looks at besides the study."""

from __future__ import annotations

from ferocal.documents.objects.schema import Key, Schema, attributes

OVERHEAD = Schema(
    "`ferocal inspect --overhead --json`",
    attributes(
        (
            ("wall", "number", "wall time of an empty program (s)"),
            ("cpu", "number?", "its CPU time (s)"),
            ("peak_memory", "number?", "its peak memory (bytes)"),
            ("runs", "integer", "how many runs the medians are of"),
        )
    ),
)

INTEGRITY = Schema(
    "`ferocal inspect --integrity --json`",
    (
        Key("whole", "boolean", "whether all is as it was written, but for excluded runs",
            lambda found: not found.broken),
        Key("counts", "object", "how many rows there are, by what they are"),
        Key("broken", "array", "what is damaged, in words, at most a hundred things"),
        Key("excluded_damage", "array", "damaged runs that are excluded",
            lambda found: found.excluded),
        Key("sealed_at", "string?",
            "when rows of an earlier version were sealed as they were, null where all were sealed "
            "as they were written"),
        Key("ledger", "string", "what tells this ledger from others; copies have the same",
            lambda found: found.identity.id),
        Key("entries", "integer", "how many entries it has: they only become more",
            lambda found: found.identity.entries),
        Key("missing_entries", "array", "entries found to be missing, whenever it was checked here",
            lambda found: found.losses),
    ),
)  # fmt: skip

KEPT = Schema(
    "`ferocal inspect --kept --json`",
    (
        Key("path", "string", "the ledger", lambda held: str(held.path)),
        Key("bytes", "integer", "how large its file is"),
        Key("open_to_others", "boolean", "whether other users can read it"),
        Key("kinds", "array", "what there is: `name`, `count`, `bytes`, `about`",
            lambda held: [vars(kind) for kind in held.kinds]),
    ),
)  # fmt: skip
