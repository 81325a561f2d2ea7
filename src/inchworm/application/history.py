"""The history of promotions and runs, as the ledger tells it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from inchworm.application.workplace import Workplace
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.execution import StepReport
from inchworm.core.identifiers import Kind, PartId, PromotionId, promotion_number
from inchworm.core.ledger.events import HeardPart
from inchworm.core.ledger.promotions import HeardPromotion, Summary
from inchworm.core.ledger.runs import RunsAsked, RunSummary, usually_took
from inchworm.core.promotion.promotion import Promotion, Step
from inchworm.core.promotion.states import Phase, State
from inchworm.core.running.run import Measured, Run, RunId
from inchworm.core.running.states import RunState


class History(Struct, frozen=True, kw_only=True):
    """Promotions in one line each, the latest first.

    Attributes:
        promotions: those of the ledger.
        heard: those of other ledgers, as far as environments were read since.
    """

    promotions: list[Summary]
    heard: list[HeardPromotion]


class Wanted(Struct, frozen=True, kw_only=True):
    """The promotions that are asked for; whatever is empty does not matter.

    Attributes:
        names: names that the environment has or had, where they are known; else its name counts.
        by: who moved it last.
        state: how it stands, in words.
        since: the first day of its last move, ISO 8601.
        until: the last day.
    """

    environment: str = ""
    names: frozenset[str] = frozenset()
    by: str = ""
    state: str = ""
    since: str = ""
    until: str = ""

    def has(self, environment: str, by: str, state: str, at: str) -> bool:
        """Whether a promotion is asked for."""
        return (
            (not self.environment or environment in (self.names or {self.environment}))
            and self.by.lower() in {"", by.lower()}
            and self.state in {"", state}
            and self.since <= at[:10]
            and (not self.until or at[:10] <= self.until)
        )


def history(workplace: Workplace, wanted: Wanted) -> History:
    """All promotions that are asked for; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is no environment of that name, no such state, or a day is none.
    """
    workplace.ledger.check()
    if wanted.environment:
        name, names = _environment(workplace, wanted.environment)
        wanted = replace(wanted, environment=name, names=names)
    states = [state.value for state in State]
    if wanted.state and wanted.state not in states:
        raise UsageError(
            f"{wanted.state} is no state.", next=did_you_mean(wanted.state, states, "Try done.")
        )
    for day in (wanted.since, wanted.until):
        _check_day(day)
    latest = workplace.ledger.summaries()[::-1]
    workplace.ledger.check_index(latest[:_LOOKED_AT])
    return History(
        promotions=[
            s
            for s in latest
            if wanted.has(s.environment, s.changed_by, s.state.value, s.changed_at)
        ],
        heard=[
            each
            for each in workplace.ledger.heard()[::-1]
            if wanted.has(each.environment, each.promotion.by, State.DONE.value, each.promotion.at)
        ],
    )


def _environment(workplace: Workplace, name: str) -> tuple[str, frozenset[str]]:
    """An environment that is declared, or that promotions went into once: its name, and all names.

    Raises:
        UsageError: when there is no such environment.
    """
    past = {s.environment.lower(): s.environment for s in workplace.ledger.summaries()}
    try:
        declared = workplace.project.environment(name)
    except UsageError:
        if name.lower() not in past:
            raise
        former = past[name.lower()]
        return former, frozenset({former})
    return declared.name, declared.names


_LOOKED_AT = 100
"""Lines of the index that are held against their entries: those that are listed."""


def _check_day(day: str) -> None:
    try:
        if day:
            dt.date.fromisoformat(day)
    except ValueError as error:
        raise UsageError(f"{day} is not a day.", next="Write it as 2026-12-31.") from error


class PartEvent(Struct, frozen=True, kw_only=True):
    """Something that a promotion did to a part."""

    promotion: PromotionId
    environment: str
    bundle: str
    step: Step
    report: StepReport
    at: str
    by: str
    taken_back: str = ""
    """When and by whom the promotion was taken back since, in words; empty where it was not."""


class Life(Struct, frozen=True, kw_only=True):
    """What is known of a part.

    Attributes:
        events: what promotions did to it, the latest first.
        heard: what databases told of it when the ledger was rebuilt, the latest first.
    """

    part: PartId
    events: tuple[PartEvent, ...]
    heard: tuple[HeardPart, ...] = ()


def heard_promotion(workplace: Workplace, id_: str) -> list[HeardPromotion]:
    """What databases told of a promotion of that number, where this ledger has none itself."""
    number = promotion_number(id_)
    if not workplace.ledger.exists or workplace.ledger.has(id_):
        return []
    return [
        heard
        for heard in workplace.ledger.heard()
        if heard.promotion.id is not None and heard.promotion.id.number == number
    ]


def life_of(workplace: Workplace, name: str) -> Life:
    """What promotions did to a part, in all environments, the latest first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when no promotion has anything about a part of that name.
    """
    workplace.ledger.check()
    promotions = workplace.ledger.promotions() if workplace.ledger.exists else []
    heard = workplace.ledger.heard_parts() if workplace.ledger.exists else []
    known = {s.part for p in promotions for s in p.draft.steps if isinstance(s.part, PartId)}
    known |= {PartId.parse(each.part) for each in heard}
    folded = name.strip().lower()
    meant = sorted(part for part in known if folded in {str(part).lower(), part.name.lower()})
    if len(meant) != 1:
        names = [*map(str, known), *(part.name for part in known)]
        listed = ", ".join(map(str, meant))
        raise UsageError(
            f"{name} may be {listed}." if meant else f"No promotion has anything about {name}.",
            next="Say which: KIND:NAME." if meant else did_you_mean(name, names, "KIND:NAME."),
        )
    events = [
        PartEvent(
            promotion=promotion.id,
            environment=promotion.draft.environment,
            bundle=promotion.draft.bundle,
            step=step,
            report=promotion.report_of(step),
            at=promotion.done_at or promotion.changed_at,
            by=promotion.done_by or promotion.changed_by,
            taken_back=_taken_back(promotion),
        )
        for promotion in reversed(promotions)
        if promotion.state not in {State.DRAFTED, State.DROPPED}
        for step in promotion.draft.steps
        if step.part == meant[0] and step.phase not in _ABOUT_SCHEDULES
    ]
    heard = sorted((h for h in heard if h.part == str(meant[0])), key=lambda h: h.at, reverse=True)
    return Life(part=meant[0], events=tuple(events), heard=tuple(heard))


def _taken_back(promotion: Promotion) -> str:
    if promotion.state is not State.UNDONE:
        return ""
    at = promotion.changed_at[:16].replace("T", " ")
    return f"{promotion.message or 'taken back'}, {at} UTC, by {promotion.changed_by}"


_ABOUT_SCHEDULES = frozenset({Phase.PAUSE, Phase.RESUME, Phase.CHECK})


class LiveThen(Struct, frozen=True, kw_only=True):
    """What ran in an environment at a time, as the ledger knows.

    Attributes:
        promotion: the promotion, named from this ledger's point of view; empty where none was.
        since: when it was completed, ISO 8601, UTC.
    """

    environment: str
    promotion: str = ""
    bundle: str = ""
    commit: str | None = None
    since: str = ""
    by: str = ""


def status_at(workplace: Workplace, at: dt.datetime) -> list[LiveThen]:
    """What ran in each environment at a time; what the ledger has not heard of is not known.

    Raises:
        LedgerError: when an entry was altered.
    """
    workplace.ledger.check()
    moment = at.astimezone(dt.UTC).isoformat(timespec="seconds")
    latest: dict[str, LiveThen] = {}
    for summary in reversed(workplace.ledger.summaries()):
        if summary.environment in latest or summary.state not in {State.DONE, State.UNDONE}:
            continue
        ended = workplace.ledger.completed(summary.id)
        if ended is not None and ended.at <= moment:
            promotion = workplace.ledger.promotion(summary.id)
            latest[summary.environment] = LiveThen(
                environment=summary.environment,
                promotion=str(summary.id),
                bundle=summary.bundle,
                commit=promotion.commit,
                since=ended.at,
                by=ended.by,
            )
    for heard in workplace.ledger.heard():
        other, known = heard.promotion, latest.get(heard.environment)
        if other.at <= moment and (known is None or known.since < other.at):
            latest[heard.environment] = LiveThen(
                environment=heard.environment,
                promotion=other.named(workplace.ledger.id),
                bundle=other.bundle,
                commit=other.commit,
                since=other.at,
                by=other.by,
            )
    names = [environment.name for environment in workplace.project.environments]
    return [latest.get(name, LiveThen(environment=name)) for name in names]


class Runs(NamedTuple):
    """Runs, the latest first, and how long runs of the same usually took before each."""

    runs: list[RunSummary]
    usual: Mapping[RunId, float]


def runs(workplace: Workplace, environment: str | None = None, state: str = "") -> Runs:
    """All runs, or those in one environment or state; the ledger's chain is followed.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is no environment of that name, or no such state.
    """
    workplace.ledger.check()
    name = None if environment is None else workplace.project.environment(environment).name
    states = [each.value for each in RunState]
    if state and state not in states:
        near = did_you_mean(state, states, "Try failed.")
        raise UsageError(f"{state} is no state of a run.", next=near)
    every = workplace.ledger.runs(RunsAsked(environment=name))
    shown = [run for run in every[::-1] if state in {"", run.state.value}]
    return Runs(shown, usually_took(every))


def run(workplace: Workplace, id_: str) -> Run:
    """One run, step by step; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is none.
    """
    workplace.ledger.check()
    return workplace.ledger.run(id_)


def measures(
    workplace: Workplace, name: str | None = None, environment: str | None = None
) -> list[Measured]:
    """The numbers that notebooks measured: all, or those of a name, or in an environment.

    Raises:
        UsageError: when there is no such environment, or nothing of that name was measured.
    """
    declared = None if environment is None else workplace.project.environment(environment).name
    everything = workplace.ledger.measured() if workplace.ledger.exists else []
    chosen = [
        each
        for each in everything
        if name in {None, each.name} and declared in {None, each.environment}
    ]
    if name is not None and not chosen:
        known = sorted({each.name for each in everything})
        near = did_you_mean(name, known, f"Measured: {', '.join(known) or 'nothing yet'}.")
        raise UsageError(f"Nothing of the name {name} was measured.", next=near)
    return chosen


def executed_notebook(workplace: Workplace, id_: str, name: str) -> bytes:
    """A notebook as a run executed it, with its outputs.

    Raises:
        UsageError: when the run executed none of that name, or it is not kept any more.
    """
    executed = run(workplace, id_)
    outputs = {
        step.part.name.lower(): report.output
        for step in executed.plan.steps
        if isinstance(step.part, PartId) and (report := executed.report_of(step)).output
    }
    output = outputs.get(name.removeprefix(f"{Kind.NOTEBOOK.value}:").lower())
    if output is None:
        near = did_you_mean(name, outputs, f"It executed: {', '.join(outputs) or 'none'}.")
        raise UsageError(f"{executed.id} executed no notebook {name}.", next=near)
    return workplace.outputs.read(output)


def kept_file(workplace: Workplace, id_: str, name: str) -> bytes:
    """A file that a notebook of a run kept.

    Raises:
        UsageError: when none of its notebooks kept one of that name, or it is not there any more.
    """
    executed = run(workplace, id_)
    stored_files = {
        file: stored
        for step in executed.plan.steps
        for file, stored in executed.report_of(step).kept.items()
    }
    if name not in stored_files:
        near = did_you_mean(name, stored_files, f"It kept: {', '.join(stored_files) or 'nothing'}.")
        raise UsageError(f"{executed.id} kept no file {name}.", next=near)
    return workplace.outputs.read(stored_files[name])


def promotion(workplace: Workplace, id_: str) -> Promotion:
    """One promotion, step by step; the ledger's chain is followed first.

    Raises:
        LedgerError: when an entry was altered.
        UsageError: when there is none.
    """
    workplace.ledger.check()
    return workplace.ledger.promotion(id_)
