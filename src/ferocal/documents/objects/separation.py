"""What ``ferocal plan --design separate --json`` prints."""

from __future__ import annotations

from ferocal.documents.objects.schema import Key, Schema, attributes
from ferocal.documents.separation import toml_lines

_PROPOSED = Schema(
    "A configuration that is proposed",
    (
        *attributes((("name", "string", "its name"),)),
        Key("levels", "object", "its levels", lambda proposed: dict(proposed.levels)),
        *attributes((("new", "boolean", "whether the study does not have it yet"),)),
    ),
)
SEPARATION = Schema(
    "`ferocal plan --design separate --json`",
    (
        *attributes(
            (
                ("question", "string", "the question of the study"),
                ("separated_effects=effects", "integer", "how many effects they separate"),
                ("switches", "integer", "switches in a round"),
                ("seconds", "number?", "what these take, null where it is not stated"),
            )
        ),
        Key("configurations", "array", "what to measure, the baseline first", of=_PROPOSED),
        Key("unneeded", "array", "configurations of the study that add nothing to that",
            lambda s: list(s.unneeded)),
        Key("inseparable", "array", "effects that nothing possible separates",
            lambda s: list(s.inseparable)),
        Key("study_file", "array", "lines for the study file", lambda s: list(toml_lines(s))),
    ),
)  # fmt: skip
