"""What is said of two sides that are not alike, and of what effects say together."""

from __future__ import annotations

from collections.abc import Callable

from ferocal.documents.caveats.phrases import Values, Words, joined, percentage, sized
from ferocal.documents.changes import definition_text
from ferocal.terms.conditions import BUSY_LIMIT, label_of
from ferocal.terms.numbers import grouped, signed_significant, significant
from ferocal.terms.wording import counted, listed


def _differs(subject: str, name: str = "{}") -> Callable[[Values], str]:
    """A fact that is not the same on both sides."""

    def seen(values: Values) -> str:
        here, there = joined(values["here"]), joined(values["there"])
        what = name.format(values["name"])
        return f"{subject} differs: {what} {here} against {there} in the baseline"

    return seen


def _moved(values: Values) -> str:
    return f"{values['name']} changed between visits: {joined(values['seen'])}"


def _unproven(values: Values) -> str:
    levels, factor = values["levels"], values["factor"]
    which = listed(levels) if len(levels) <= 2 else f"{len(levels)} levels of {factor}"
    return f"no check verified that {which} {'was' if len(levels) == 1 else 'were'} active"


def _per_resource(values: Values) -> str:
    changes = [f"{title} {percentage(change)}" for title, change in values["changes"]]
    text = f"{values['resource']} {values['here']:g} against {values['there']:g}; per unit, "
    return f"{text}the speed changes by {', '.join(changes)}"


def _other_unit(values: Values) -> str:
    text = f"{counted(values['count'], 'reading')} of {values['metric']} in {values['unit']}"
    return f"{text}, not in {values['wanted']} (left out)"


def _conditions(values: Values) -> str:
    """A metric that is context, a text of the surroundings, or a number of them."""
    if "context" in values:
        return f"{values['context']} differs by {sized(values['by'])} from {values['baseline']}"
    label = label_of(values["condition"])
    if "words" in values:
        (name, here), (base, there) = values["words"]
        return f"with {name}, {label} was {listed(here)}, with {base} {listed(there)}"
    by = signed_significant(values["difference"], 3)
    text = f"{label} before the runs differs by {by} from {values['baseline']}"
    return f"{text} (p = {values['p']:.1g})"


def _busy(values: Values) -> str:
    who, steal = ("the host took", " (steal)") if values["stolen"] else ("other processes used", "")
    text = f"{who} more than {100 * BUSY_LIMIT:.0f} % of processor time{steal} in "
    text += f"{values['count']} of {counted(values['runs'], 'run')}"
    return text + (f": {', '.join(values['names'])}" if values["names"] else "")


def _losses(values: Values) -> str:
    here, there = values["here"], values["there"]
    if values["lost"]:
        lost = [f"{count} {how}" for how, count in values["lost"]]
        return f"{listed(lost)} with {here}, none with {there}"
    ours, theirs = values["runs"]
    text = f"paired rounds have {counted(ours, 'run')} with {here} but "
    return f"{text}{grouped(theirs)} with {there}"


def _contradiction(values: Values) -> str:
    low, high = significant(values["centre"]), significant(values["below"])
    text = f"with {values['configuration']}, {values['metric']} of {values['workload']} ({low})"
    return f"{text} is above {values['other']} ({high})"


def _weak_beginning(values: Values) -> str:
    beginning, level = sized(values["beginning"]), sized(values["level"])
    return f"the beginning changes by {beginning}, the {values['label']} by {level}"


def _trade_off(values: Values) -> str:
    once = " (seen once)" if values["once"] else ""
    return f"{values['better']} gets better and {values['worse']} gets worse{once}"


def _control(values: Values) -> str:
    change = "known as a bound" if values["change"] is None else sized(values["change"])
    text = f"the control arm ({values['baseline']} again) changes {values['workload']} "
    return f"{text}{values['metric']} ({change})"


WORDS = {
    "undeclared-difference": Words(
        "software that differs but is not a factor",
        "make it a factor, list it under `explains` of one, or use the same on both sides",
        _differs("software"),
        look="ferocal inspect",
    ),
    "software-moved": Words(
        "software that changed between visits to one configuration",
        "exclude the visits before or after the change, and measure again",
        _moved,
        look="ferocal inspect",
    ),
    "definition-changed": Words(
        "a level, workload or metric had a different definition when it was measured",
        "exclude those runs and measure again, or start a new study",
        lambda values: definition_text(values["change"]),
        look="ferocal inspect",
    ),
    "unproven": Words(
        "no check verified that a level was active",
        "add `verify` to the level: a setting without effect looks like no change",
        _unproven,
        look="ferocal inspect",
    ),
    "resources-differ": Words(
        "processors, memory or other resources that differ",
        "use the same on both sides, or declare it: `explains`, a quantity, or `accept`",
        _differs("a resource"),
        look="ferocal inspect",
    ),
    "per-resource": Words(
        "a different number of cores, adapters or other resources",
        "also look at the change per unit of the resource",
        _per_resource,
        look="ferocal factors",
    ),
    "workload-differs": Words(
        "a workload with different arguments, version or files",
        "measure the same workload on both sides, or `accept` the difference with a reason",
        _differs("the workload"),
        look="ferocal inspect",
    ),
    "best-of": Words(
        "the best of several values on one side, another statistic on the other",
        "use the same statistic on both sides: a best of several is not a mean",
        _differs("what was read", "the statistic of {}"),
    ),
    "other-unit": Words(
        "readings in another unit than the study file, left out",
        "convert them to the unit in the study file",
        _other_unit,
    ),
    "conditions-differ": Words(
        "a different load, temperature, clock or other condition",
        "find the cause and measure again under equal conditions",
        _conditions,
    ),
    "busy-bench": Words(
        "other processes used more than 10 % of processor time in 10 % of the runs",
        "stop them, or set `[bench.NAME.quiet]`, which repeats such runs",
        _busy,
        look="ferocal runs {workload}",
    ),
    "one-sided-losses": Words(
        "runs that failed, are excluded or are missing on one side",
        "find out why: if slow runs are lost, the rest looks too fast",
        _losses,
        look="ferocal runs {workload} --outcome failed",
    ),
    "contradiction": Words(
        "a metric exceeds one that it cannot exceed",
        "look for a wrong digit or swapped readings; fix with `ferocal correct`",
        _contradiction,
        look="ferocal table {workload}",
    ),
    "weak-beginning": Words(
        "better only against a beginning that is worse",
        "compare the last quarter and the sessions instead",
        _weak_beginning,
        look="ferocal soak --detail {workload} {configuration}",
    ),
    "trade-off": Words(
        "one metric of a workload gets better, another worse",
        "decide which of the two matters",
        _trade_off,
        look="ferocal compare --detail {workload} {configuration}",
    ),
    "control-differs": Words(
        "the control arm shows a change",
        "find out why before trusting any verdict",
        _control,
        look="ferocal compare --detail --configuration control",
    ),
}
