"""Bringing the bench from one configuration to another: leave, switch, hold, renew."""

from __future__ import annotations

import time
from collections.abc import Mapping

from ferocal.bench.commands import prepare
from ferocal.bench.execution import tail
from ferocal.bench.machine import Machine
from ferocal.bench.verification import CheckResult, verify
from ferocal.errors import FerocalError, HoldError
from ferocal.ledger.reading.visits import last_levels, was_visited
from ferocal.ledger.records import StepRecord
from ferocal.ledger.writing.runs import Recorder
from ferocal.measure.progress import Decision, Observer
from ferocal.study.checks import CommandCheck
from ferocal.study.configurations import Configuration
from ferocal.study.load import Study
from ferocal.study.model import Level, Step
from ferocal.terms.wording import listed


class SkipVisitError(Exception):
    """The operator leaves this visit out for now."""


class StopSessionError(Exception):
    """The operator wants to stop here."""


class Transition:
    """Knows at which levels the bench is, and brings it to others.

    Only what changes is switched, in factor order. At the beginning of a session nothing
    is taken for granted, since the bench may have been rebooted or changed by hand: a
    level whose checks hold is active. One without checks is where the ledger last saw it, if a
    command brings it; if an operator does, it is for an operator to confirm, every time.
    """

    def __init__(
        self, study: Study, recorder: Recorder, machine: Machine, observer: Observer
    ) -> None:
        self._study = study
        self._recorder = recorder
        ledger = recorder.ledger
        self._machine = machine
        self._observer = observer
        self._levels = last_levels(ledger, study.bench)
        self._unproven = set(study.file.factor)
        self._visited = was_visited(ledger, study.bench)
        self._told: set[str] = set()

    def assume(self, configuration: Configuration) -> None:
        """Take it that the bench is in a configuration, which was verified."""
        self._levels = dict(configuration.levels)
        self._unproven = set()

    def distrust(self, configuration: Configuration) -> None:
        """Forget at which levels the bench is: a check of this configuration has failed."""
        for factor in configuration.levels:
            self._levels.pop(factor, None)

    def bring(self, configuration: Configuration, context: Mapping[str, str]) -> float:
        """Bring the bench to a configuration; returns how long it took, in seconds.

        Raises
        ------
        FerocalError
            When a step fails after its retries.
        HoldError
            When an operator has to act and none is there.
        SkipVisitError, StopSessionError
            What the operator decided.
        """
        start = time.monotonic()
        environment = {**context, **configuration.environment}
        changed = [f for f in configuration.levels if self._must_change(f, configuration, context)]
        for factor in changed:
            before = self._levels.get(factor)
            if before is not None and before != configuration.levels[factor]:
                self._do(factor, before, "leave", environment)
        for factor in changed:
            self._switch(factor, configuration, environment, context)
        if not changed and self._visited:
            for factor in configuration.levels:
                self._renew(factor, configuration, environment, context)
        # What a reboot has taken away, of what stayed or came before it.
        for factor in [f for f in configuration.levels if f in self._unproven]:
            if self._must_change(factor, configuration, context):
                self._switch(factor, configuration, environment, context)
        self._visited = True
        return time.monotonic() - start

    def _must_change(
        self, factor: str, configuration: Configuration, context: Mapping[str, str]
    ) -> bool:
        wanted = configuration.levels[factor]
        level = self._study.level(factor, wanted)
        if factor not in self._unproven:
            return self._levels.get(factor) != wanted
        self._unproven.discard(factor)
        if not (level.switch or level.hold):
            # Nothing brings this level, but another one may have to be left.
            return self._levels.get(factor) != wanted
        if _has_checks(level):
            active = not self._failing(f"{factor}={wanted}", configuration, context)
        else:
            active = not level.hold and self._levels.get(factor) == wanted
        if active:
            self._levels[factor] = wanted
        return not active

    def _failing(
        self, level: str, configuration: Configuration, context: Mapping[str, str]
    ) -> list[CheckResult]:
        """The checks of a level that do not hold now."""
        results = verify(
            self._machine,
            configuration,
            context,
            chosen=lambda asking: asking == level,
        )
        return [result for result in results if not result.holds]

    def _switch(
        self,
        factor: str,
        configuration: Configuration,
        environment: Mapping[str, str],
        context: Mapping[str, str],
    ) -> None:
        name = configuration.levels[factor]
        level = self._study.level(factor, name)
        if level.hold:
            self._hold(factor, configuration, context)
        self._do(factor, name, "switch", environment)
        if level.reboot:
            self._reboot(factor, name)
        others = self._study.file.factor[factor].level.values()
        if not level.switch and any(other.switch or other.hold for other in others):
            # Nothing to do, but a later session has to know that the other level was left.
            text = "nothing to do"
            self._recorder.record_step(
                StepRecord(self._study.bench, "switch", factor, name, "done", text)
            )
        self._levels[factor] = name

    def _renew(
        self,
        factor: str,
        configuration: Configuration,
        environment: Mapping[str, str],
        context: Mapping[str, str],
    ) -> None:
        """Begin a visit afresh where the configuration stays as it is.

        Of visits in one go each has to be one: where an operator brings the levels of a factor
        and no command renews them, it is for the operator to do so once more.
        """
        name = configuration.levels[factor]
        level = self._study.level(factor, name)
        others = self._study.file.factor[factor].level.values()
        in_one_go = self._study.head.schedule != "rounds"
        if in_one_go and not level.renew and any(other.hold for other in others):
            self._hold(factor, configuration, context, again=True)
        self._do(factor, name, "renew", environment)
        if level.reboot:
            self._reboot(factor, name)

    def _reboot(self, factor: str, name: str) -> None:
        """Start the machine anew; what it had of other factors is to be proven again."""
        self._observer.doing(f"reboot {factor}={name}")
        seconds = self._machine.restart()
        self._recorder.record_step(
            StepRecord(self._study.bench, "reboot", factor, name, "done", "started anew", seconds)
        )
        self._unproven |= set(self._levels) - {factor}

    def _do(self, factor: str, name: str, kind: str, environment: Mapping[str, str]) -> None:
        steps: tuple[Step, ...] = getattr(self._study.level(factor, name), kind)
        for step in steps:
            self._observer.doing(f"{kind} {factor}={name}")
            self._execute((factor, name), kind, step, environment)

    def prepare(self) -> None:
        """Do what the study needs once in every session.

        Raises
        ------
        FerocalError
            When a step fails after its retries.
        """
        for step in self._study.head.prepare:
            self._observer.doing("prepare")
            self._execute(("", ""), "prepare", step, {})

    def _execute(
        self, place: tuple[str, str], kind: str, step: Step, environment: Mapping[str, str]
    ) -> None:
        """Carry out a step at a factor and level, both empty for what belongs to none."""
        factor, name = place
        # What a step starts may have to live on, such as a service.
        invocation = prepare(step, self._machine.place, environment, then="keep")
        for _ in range(step.retries + 1):
            completed = self._machine.run(invocation)
            output = completed.mask.data(completed.stdout + completed.stderr)
            failure = completed.failure
            state = "done" if failure is None else "failed"
            text = " ".join(invocation.words)
            if completed.left_behind:
                self._tell_of_left(kind, place, completed.left_behind)
                text += f" (left running: {', '.join(completed.left_behind)})"
            self._recorder.record_step(
                StepRecord(
                    self._study.bench, kind, factor, name, state, text, completed.wall, output
                )
            )
            if failure is None:
                return
        said = tail(output)
        tries = f" {step.retries + 1} times" if step.retries else ""
        of = f" of {factor}={name}" if factor else ""
        raise FerocalError(
            f"{kind}{of} failed{tries}: `{text}` {failure}"
            + (f": {said}" if said else "")
            + "; mend it, then run `ferocal measure` again"
        )

    def _tell_of_left(self, kind: str, place: tuple[str, str], names: tuple[str, ...]) -> None:
        """Say once what lives on beside all later runs."""
        of = f" of {place[0]}={place[1]}" if place[0] else ""
        text = f"{kind}{of} left {listed(names)} running, which lives on beside the runs"
        if text not in self._told:
            self._told.add(text)
            self._observer.remark(text)

    def _hold(
        self,
        factor: str,
        configuration: Configuration,
        context: Mapping[str, str],
        *,
        again: bool = False,
    ) -> None:
        """Wait until the operator has acted and the checks, if there are any, hold."""
        name = configuration.levels[factor]
        level = self._study.level(factor, name)
        task = level.hold or "leave it and come back"
        if again:
            task = f"once more, for a separate visit: {task}"
        text = task
        while True:
            decision = self._observer.hold(
                configuration.name, f"{factor}={name}", text, int(context["FEROCAL_ROUND"])
            )
            state = {Decision.CONTINUE: "continued", Decision.SKIP: "skipped"}.get(
                decision or Decision.STOP, "waiting"
            )
            self._recorder.record_step(
                StepRecord(self._study.bench, "hold", factor, name, state, task)
            )
            if decision is None:
                raise HoldError(
                    f"waiting at {factor}={name}, for configuration {configuration.name}\n"
                    f"  do this: {task}\n"
                    "  then run `ferocal measure` again"
                    + (
                        ": it verifies and resumes"
                        if _has_checks(level)
                        else " in a terminal, and confirm it: nothing else verifies it"
                    )
                )
            if decision is Decision.STOP:
                raise StopSessionError
            if decision is Decision.SKIP:
                raise SkipVisitError
            failing = self._failing(f"{factor}={name}", configuration, context)
            if not failing:
                return
            text = f"{failing[0]}\n  {task}"


def _has_checks(level: Level) -> bool:
    return any(isinstance(check, CommandCheck) for check in level.verify)
