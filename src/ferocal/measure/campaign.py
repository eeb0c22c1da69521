"""Measuring a study from end to end: lock, ledger, bench, plan."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace

from ferocal._version import __version__
from ferocal.bench.execution import Executor
from ferocal.bench.machine import Machine
from ferocal.bench.overhead import measure_overhead
from ferocal.bench.verification import verify
from ferocal.errors import FerocalError, UsageError, VerificationError
from ferocal.ledger.reading.planned import slots_of, wanted_metrics
from ferocal.ledger.reading.runs import settled_slots
from ferocal.ledger.records import SessionRecord
from ferocal.ledger.writing.additions import freeze_claims
from ferocal.ledger.writing.opening import open_ledger
from ferocal.ledger.writing.runs import Recorder
from ferocal.measure.lock import measuring_lock
from ferocal.measure.machines import machine_of
from ferocal.measure.padding import visit_context
from ferocal.measure.progress import Observer, Summary
from ferocal.measure.session import Options, Session
from ferocal.plan.order import PlannedVisit, plan_study
from ferocal.study.base import LEAST_PRIVATE
from ferocal.study.claims import claims_of
from ferocal.study.configurations import Configuration
from ferocal.study.criteria import criteria_of
from ferocal.study.load import Study
from ferocal.study.masking import Mask
from ferocal.terms.names import closest
from ferocal.terms.wording import be, listed


@contextmanager
def on_bench(
    study: Study,
    observer: Observer,
    options: Options,
    *,
    rounds: int | None = None,
    decide: bool = False,
) -> Iterator[tuple[Recorder, Machine]]:
    """The ledger and the bench of a study, for one session of measuring.

    Where the ``options`` say so, it is waited until no other process measures.

    Raises
    ------
    UsageError
        When the study would compare nothing.
    FerocalError
        When another process measures, or the ledger cannot be written.
    """
    # The first of several releases is measured when it is there.
    if len(study.configurations) < 2 and study.ordered_factor is None:
        raise UsageError(
            f"{study.directory}: only one configuration, so nothing to compare; add a second level "
            "to a factor"
        )
    _check_secrets(study.mask)
    with (
        _without_secrets(study.mask),
        measuring_lock(study, observer.remark if options.wait else None),
        open_ledger(study.directory, create=True, mask=study.mask) as ledger,
        machine_of(study, observer.remark) as machine,
    ):
        overhead = measure_overhead(machine)
        recorder = Recorder(ledger, study.mask)
        recorder.begin_session(
            SessionRecord(
                version=__version__,
                overhead=vars(overhead) | machine.link(),
                # Who asks for fewer rounds first has planned no fewer than the study file has.
                rounds=rounds if decide and rounds else max(rounds or 0, study.head.rounds),
                decide=decide,
                bench=study.bench,
                study_file=study.kept_text,
                criteria=criteria_of(study, planned_rounds=rounds),
                operator=options.operator,
            )
        )
        freeze_claims(ledger, claims_of(study))
        yield recorder, machine


def _check_secrets(mask: Mask) -> None:
    """Refuse to measure where a value could not be kept from what is recorded."""
    if mask.unset:
        raise UsageError(
            f"secrets: {listed(mask.unset)} {be(len(mask.unset))} set neither in the environment "
            "nor in the study file; set it, or correct the name"
        )
    if mask.short:
        raise UsageError(
            f"secrets: the value of {listed(mask.short)} has fewer than {LEAST_PRIVATE} "
            "characters, which would be masked wherever they are found by chance"
        )


@contextmanager
def _without_secrets(mask: Mask) -> Iterator[None]:
    """Keep what is private out of the messages of errors."""
    try:
        yield
    except FerocalError as error:
        error.args = tuple(mask.value(argument) for argument in error.args)
        raise


def measure_study(
    study: Study,
    observer: Observer,
    *,
    rounds: int | None = None,
    options: Options | None = None,
    configurations: Sequence[str] = (),
    levels: Sequence[str] = (),
) -> Summary:
    """Take every run of a study that is not in its ledger yet, on this machine.

    ``rounds`` is the number of rounds in all, by default that of the study file;
    ``configurations`` and ``levels`` ("driver=r64") are those to which visits are limited.
    The errors are those of `on_bench` and `Session.carry_out`.
    """
    visits = choose_visits(study, plan_study(study, rounds), configurations, levels)
    options = options or Options()
    with on_bench(study, observer, options, rounds=rounds) as (recorder, machine):
        session = Session(study, recorder, machine, observer, options)
        return session.carry_out(visits, rounds=visits[-1].round)


def choose_visits(
    study: Study,
    visits: Sequence[PlannedVisit],
    configurations: Sequence[str] = (),
    levels: Sequence[str] = (),
) -> list[PlannedVisit]:
    """Those visits whose configuration is one of these, and has one of these levels per factor.

    Raises
    ------
    UsageError
        When a level or configuration is unknown, or nothing fits.
    """
    for name in configurations:
        study.configuration(name)
    known = [f"{f}={level}" for f, factor in study.file.factor.items() for level in factor.level]
    wanted: dict[str, set[str]] = {}
    for text in levels:
        if text not in known:
            raise UsageError(f'no level "{text}"; {closest(text, known)}')
        factor, _, level = text.partition("=")
        wanted.setdefault(factor, set()).add(level)

    def fits(configuration: Configuration) -> bool:
        if configurations and configuration.name not in configurations:
            return False
        return all(configuration.levels[factor] in allowed for factor, allowed in wanted.items())

    fitting = {c.name for c in study.configurations if fits(c)}
    if not fitting:
        limits = [*configurations, *levels]
        raise UsageError(f"no configuration fits {' and '.join(limits)} together")
    return [visit for visit in visits if visit.configuration in fitting]


def measure_here(study: Study, observer: Observer, options: Options) -> Summary:
    """Take the next visit of the configuration that is active now, switching nothing.

    Raises
    ------
    VerificationError
        When no configuration is active, or several may be.
    """
    with on_bench(study, observer, options) as (recorder, machine):
        session = Session(study, recorder, machine, observer, options)
        session.prepare()
        names = find_active(study, machine)
        settled = settled_slots(
            recorder.ledger, study.bench, retry=options.retry, wanted=wanted_metrics(study)
        )
        plan = plan_study(study)
        visits = [visit for visit in plan if visit.configuration in names]
        following = [v for v in visits if not settled.issuperset(slots_of(study, v))][:1]
        summary = session.carry_out(following or visits[-1:], rounds=visits[-1].round)
        # One visit was asked for, but it is the whole plan that is complete or not.
        slots = [slot for visit in plan for slot in slots_of(study, visit)]
        return replace(summary, planned=len(slots), already=sum(slot in settled for slot in slots))


def find_active(study: Study, executor: Executor) -> list[str]:
    """Names of the configurations whose checks hold now; they share their levels.

    Raises
    ------
    VerificationError
        When there is none, or when several with different levels fit.
    """
    fitting, reasons = [], []
    for configuration in study.configurations:
        context = visit_context(PlannedVisit(0, 0, configuration.name))
        results = verify(executor, configuration, context)
        if not results:
            reasons.append(f"  {configuration.name}: no command checks it, so nothing proves it")
        elif all(result.holds for result in results):
            fitting.append(configuration)
        else:
            reasons += [f"  {configuration.name}: {r}" for r in results if not r.holds]
    if not fitting:
        listed = "\n".join(reasons)
        raise VerificationError(f"no configuration is active here:\n{listed}")
    if any(c.levels != fitting[0].levels for c in fitting):
        names = ", ".join(c.name for c in fitting)
        raise VerificationError(
            f"the checks of several configurations hold here: {names}; add checks that "
            "distinguish them, or name one with --configuration"
        )
    return [c.name for c in fitting]
