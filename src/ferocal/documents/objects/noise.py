"""What ``ferocal inspect --noise --json`` prints."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ferocal.documents.objects.schema import Key, Schema


def _figure(name: str) -> Callable[[Any], Any]:
    return lambda look: look[0][name]


LOOK = Schema(
    "`ferocal inspect --noise --json`",
    (
        Key("bench", "string?", "with which bench it was kept, null without a study",
            lambda look: look[1]),
        *(
            Key(name.partition("=")[0], kind, meaning, _figure(name.rpartition("=")[2]))
            for name, kind, meaning in (
                ("seconds", "number", "how long it took"),
                ("stretches", "integer", "stretches of time, which stand for visits"),
                ("runs", "integer", "processes in all"),
                ("loop_seconds", "number", "how long the loop takes, its median"),
                ("run_sd", "number", "spread within stretches (SD of natural logarithms)"),
                ("stretch_sd", "number", "what stretches add to that"),
                ("rounds_needed=rounds", "array", "`rounds` of `runs` that a `change` needs"),
                ("others", "number?", "share of the processors that others took"),
                ("stolen", "number?", "share that the host withheld"),
                ("busiest", "array", "names of the busiest others"),
                ("clock_mhz", "array?", "lowest and highest clock"),
                ("governor", "string?", "the frequency governor"),
                ("on_mains", "boolean?", "whether it is on mains"),
                ("timer_seconds", "number", "the smallest step of the clock"),
                ("unreadable", "array", "conditions that cannot be read here"),
                ("improve_first=first", "array", "what to change first, in sentences"),
            )
        ),
    ),
)  # fmt: skip
