"""Promotions at the terminal: a draft shown, agreed to, and carried out, step by step."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Collection
from typing import Any

import click
from msgspec import Struct
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from inchworm.application.entry import Entry, standing
from inchworm.application.entry import say as say_so
from inchworm.application.promoting import (
    carry_out_promotion,
    record_draft,
    step_key,
    usual_seconds,
)
from inchworm.application.workplace import Workplace
from inchworm.cli.options import PARTLY_DONE
from inchworm.cli.process import shown_time
from inchworm.cli.samples import print_failing_rows
from inchworm.cli.step_lines import StepLines
from inchworm.cli.terminal import (
    MOST_FINDINGS,
    console,
    print_findings,
    print_json,
    rows,
    say,
    spell_seconds,
    word,
)
from inchworm.cli.visible import visible
from inchworm.core.checks.environment_rules import changed_by_hand
from inchworm.core.checks.findings import has_errors
from inchworm.core.counting import counted
from inchworm.core.entry.approvals import Verdict
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import EnvironmentMoved, UsageError, Waiting
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId, promotion_key
from inchworm.core.promotion.composition import CompletedPromotion
from inchworm.core.promotion.holds import Hold
from inchworm.core.promotion.promotion import Direction, Draft, Promotion, Step
from inchworm.core.promotion.rollback import Rollback
from inchworm.core.promotion.states import Phase, State
from inchworm.engine.drafting import Drafted
from inchworm.engine.preparation import Prepared
from inchworm.engine.reporter import Reporter
from inchworm.report.documents import draft_document, entry_document, promotion_document

_SHOWN = 80
_EFFECT = 12
"""The width of the words that say what a change of structure does."""


class Asking(Struct, frozen=True, kw_only=True):
    """How the program talks with whoever started it.

    Attributes:
        wait: how long to wait for entry conditions that are missing, in seconds.
        exception: whether to let the promotion in although some are missing.
        because: the reason for that.
    """

    yes: bool
    as_json: bool
    wait: float = 0.0
    exception: bool = False
    because: str = ""


def promote_drafted(
    place: Workplace,
    make: Callable[[], Drafted],
    reading: str,
    asking: Asking,
    *,
    only_draft: bool,
) -> int:
    """Draft, show the draft, record it, ask, and carry it out; the exit code.

    Args:
        place: the workplace.
        make: makes the draft.
        reading: the environment that is read for it.
        asking: how to talk with whoever started it.
        only_draft: whether to stop once it is recorded.
    """
    screen = console()
    with _waiting(screen, f"reading {reading}", asking.as_json):
        drafted = make()
    draft, environment = drafted.draft, drafted.prepared.environment
    if not asking.as_json:
        show_draft(screen, drafted)
    if has_errors(draft.findings):
        if asking.as_json:
            print_json(draft_document(draft, "refused"))
        else:
            say(screen, "failed", "errors refuse this promotion; nothing changed.")
        return 1
    if not draft.steps:
        if asking.as_json:
            print_json(draft_document(draft, "nothing to do"))
        else:
            text = f"{draft.bundle} is in {_named(environment)}, and nothing differs"
            say(
                screen,
                "nothing to do",
                text + _but_for(changed_by_hand(draft.findings), environment),
            )
        return 0
    promotion = record_draft(place, drafted)
    if only_draft:
        if asking.as_json:
            print_json(promotion_document(promotion))
            return 0
        go_on = f"Carry it out: inchworm promote {promotion.id}"
        if environment.entry.approvals:
            go_on = f"Have it approved: inchworm review {promotion.id}"
        say(screen, "drafted", f"as {promotion.id}; nothing changed. {go_on}")
        return 0
    return carry_out(place, drafted.prepared, promotion, asking)


def _but_for(parts: Collection[PartId], environment: Environment) -> str:
    """The end of a sentence that says that nothing differs: the parts that do, and stay so."""
    if not parts:
        return "."
    was = "that was" if len(parts) == 1 else "that were"
    changed = f"{counted(len(parts), 'part')} {was} changed by hand"
    return f" but for {changed}: inchworm drift {environment.name}"


def carry_out(place: Workplace, prepared: Prepared, promotion: Promotion, asking: Asking) -> int:
    """Ask, carry a promotion out or go on with it, and show how it ends; the exit code."""
    environment, screen = prepared.environment, console()
    if asking.exception:
        promotion = say_so(place, str(promotion.id), Verdict.EXCEPTION, asking.because)
    entry = _entry(place, promotion, asking)
    if not entry.is_open:
        if asking.as_json:
            print_json(promotion_document(promotion) | {"entry": entry_document(entry)})
        else:
            text = f"{promotion.id} in front of {_named(environment)}; nothing changed."
            say(screen, "waiting", text)
            screen.print(f"next   {_way_in(promotion, environment)}")
        return Waiting.exit_code
    if not asking.yes and not _agreed(environment, promotion):
        text = f"Nothing changed in {environment.name}. {promotion.id} stays as it is; to drop it: "
        click.echo(f"{text}inchworm promote {promotion.id} --drop")
        return 1
    reporter = Reporter()
    if not asking.as_json:
        reporter = _Progress(screen, promotion, usual_seconds(place, environment.name))
    started = time.monotonic()
    try:
        promotion = carry_out_promotion(place, prepared, promotion, reporter, entry)
    except KeyboardInterrupt:
        promotion = place.ledger.promotion(promotion.id)
        message = visible(promotion.message)
        click.echo(f"\n{message}. Go on: inchworm promote {promotion.id}", err=True)
        return 130
    finally:
        if isinstance(reporter, _Progress):
            reporter.close()
    if asking.as_json:
        print_json(promotion_document(promotion))
    else:
        _show_end(screen, environment, promotion, time.monotonic() - started)
    ends = {State.DONE: 0, State.PARTLY_DONE: PARTLY_DONE}
    return ends.get(promotion.state, 1)


def _entry(place: Workplace, promotion: Promotion, asking: Asking) -> Entry:
    """How a draft stands to the entry conditions, shown; waited for, where that is asked for."""
    screen = console()
    entry = standing(place, promotion)
    until = time.monotonic() + asking.wait
    if not entry.is_open and asking.wait and not asking.as_json:
        print_entry(screen, entry)
    with _waiting(screen, f"{promotion.id} waits for its entry conditions", asking.as_json):
        while not entry.is_open and time.monotonic() < until:
            time.sleep(min(_LOOKS_AGAIN, max(0.0, until - time.monotonic())))
            promotion = place.ledger.promotion(promotion.id)
            if not promotion.state.may_go_on:
                raise EnvironmentMoved(
                    f"{promotion.id} is {promotion.state}: {promotion.message}.",
                    next="See inchworm history.",
                )
            entry = standing(place, promotion)
    if not asking.as_json:
        print_entry(screen, entry)
    return entry


_LOOKS_AGAIN = 2.0
"""Seconds after which a promotion that waits looks again."""


def print_entry(screen: Console, entry: Entry) -> None:
    """Every entry condition, met or missing, by what evidence."""
    if not entry.judged:
        return
    lines = [
        (word("met" if each.is_met else "missing"), each.condition, each.evidence)
        for each in entry.judged
    ]
    screen.print(rows(("entry", "condition", "evidence"), lines))
    if entry.exception_text:
        screen.print(Text(f"LET IN BY EXCEPTION, {entry.exception_text}", style="bold"))
    screen.print()


def _way_in(promotion: Promotion, environment: Environment) -> str:
    """The commands that lead on from entry conditions that are missing."""
    ways = f"inchworm review {promotion.id} shows it"
    if environment.entry.approvals:
        ways += f", inchworm approve {promotion.id} says yes"
    ways += f"; when all is met: inchworm promote {promotion.id}"
    if environment.entry.exception:
        ways += f", or with --exception --because TEXT ({', '.join(environment.entry.exception)})"
    return ways


def _agreed(environment: Environment, promotion: Promotion) -> bool:
    """Ask; a protected environment wants its name typed."""
    if not sys.stdin.isatty():
        raise UsageError(
            f"{promotion.id} waits for a yes, and nobody is there to give it.",
            next=f"inchworm promote {promotion.id} --yes",
        )
    if environment.protected:
        typed = click.prompt(
            f"{environment.name} is protected. Type its name to carry out {promotion.id}",
            default="",
            show_default=False,
            err=True,
        )
        return bool(typed.strip() == environment.name)
    question = f"Carry out {promotion.id} in {environment.name} (not protected)?"
    return click.confirm(question, default=False, err=True)


# ---- what is shown -----------------------------------------------------------------------------


def show_draft(screen: Console, drafted: Drafted) -> None:
    """What a promotion would do, and against what."""
    draft, environment = drafted.draft, drafted.prepared.environment
    screen.print(title("", draft, environment))
    live = drafted.live
    screen.print(f"as {live.identity}, read {shown_time(live.read_at)} UTC", style="dim")
    show_recorded(screen, draft)
    print_findings(screen, draft.findings, MOST_FINDINGS, "All of them: --json")


def show_recorded(screen: Console, draft: Draft) -> None:
    """What a draft does: its steps, changes of structure, values, and what it leaves alone."""
    screen.print(_standing(draft))
    screen.print()
    if draft.steps:
        screen.print(rows(("step", "what", "part", "why"), _step_lines(draft), right=(0,)))
        if len(draft.steps) > _SHOWN:
            screen.print(f"... and {len(draft.steps) - _SHOWN} more steps", style="dim")
        screen.print()
    _show_changes(screen, draft)
    if draft.differing:
        came = draft.came_from
        heading = f"differs from {came}" if came else "values used"
        last = "at the last promotion" if any(v.before for v in draft.differing) else ""
        headings = (heading, f"here, in {draft.environment}", f"in {came}" if came else "", last)
        lines = [(v.name, v.here, v.there or "", v.before or "") for v in draft.differing]
        screen.print(rows(headings, lines))
        screen.print()
    if draft.secrets:
        secrets = [
            (s.name, s.reference, s.version and f"version {s.version}") for s in draft.secrets
        ]
        screen.print(rows(("secrets used", "kept in", ""), secrets))
        screen.print()
    for name, value in draft.overrides.items():
        screen.print(Text.assemble(word("given for once"), f"  {name} = {value}"))
    if draft.overrides:
        screen.print()
    if draft.sources:
        held = {hold.part: hold for hold in draft.holds}
        stays = [
            (
                word("held" if part in held else "not chosen"),
                str(part),
                f"as in {source}" if source else "stays out",
                _why_held(held[part]) if part in held else "",
            )
            for part, source in draft.sources.items()
        ]
        screen.print(rows(("stays", "", "", ""), stays[:_SHOWN]))
        if len(stays) > _SHOWN:
            screen.print(f"... and {len(stays) - _SHOWN} more", style="dim")
        screen.print()
    if draft.left_alone:
        counts = ", ".join(counted(n, kind) for kind, n in draft.left_alone.items())
        screen.print(f"left alone: {counts}", style="dim")
        screen.print()


def _standing(draft: Draft) -> Text:
    """What runs in the environment, since when and by whom, and where the bundle takes it."""
    last = draft.runs_there
    if last is None:
        return Text("nothing was promoted here yet")
    if draft.rollback is not None:
        return _standing_of_rollback(draft, draft.rollback, last)
    since = f"since {shown_time(last.at)} UTC, by {last.by}"
    if draft.direction is Direction.SAME:
        return Text(f"this bundle runs here already, {since}")
    runs = f"{last.bundle} runs here, {since}; this goes "
    if draft.direction is Direction.BACK:
        return Text.assemble(runs, ("back behind it", "bold"))
    return Text(f"{runs}on from it")


def _why_held(hold: Hold) -> str:
    until = f", until {hold.until}" if hold.until else ""
    return f"{hold.because}{until} ({hold.by})"


def _standing_of_rollback(draft: Draft, rollback: Rollback, last: CompletedPromotion) -> Text:
    """What is undone, and the promotion whose state comes back."""
    undone = ", ".join(str(promotion_key(key) or key) for key in reversed(rollback.undoes))
    to = promotion_key(rollback.to) or rollback.to
    runs = f"{last.bundle} runs here, since {shown_time(last.at)} UTC, by {last.by}; "
    because = f", because {rollback.because}" if rollback.because else ""
    return Text.assemble(
        runs, (f"this undoes {undone}", "bold"), f": back to {to}, {draft.bundle}{because}"
    )


def _show_changes(screen: Console, draft: Draft) -> None:
    """Changes of structure, statement by statement, as they will run."""
    for part, changes in draft.changes.items():
        if changes:
            screen.print(Text.assemble((str(part), "bold"), "  gets the structure that is wanted"))
        for change in changes:
            effect = word(change.effect.value)
            effect.pad_right(_EFFECT - len(effect))
            screen.print(Text.assemble(effect, f"{change.what} {change.name}"))
            for statement in change.statements:
                screen.print(Padding(Text(statement, style="dim"), (0, 0, 0, _EFFECT + 2)))
        if changes:
            screen.print()


def title(id_: str, draft: Draft, environment: Environment) -> Text:
    """Bundle, environment and protection, in one line."""
    into = " into " if draft.rollback is None else " back into "
    return Text.assemble(
        (f"{id_}  " if id_ else "", "bold"),
        (draft.bundle, "bold"),
        into,
        (environment.name, "bold"),
        " (",
        word(environment.protection),
        ")",
    )


def _step_lines(draft: Draft) -> list[tuple[str, ...]]:
    return [
        (str(step.number), step.action, _what(step), step.reason) for step in draft.steps[:_SHOWN]
    ]


def _what(step: Step) -> str:
    return f"{step.part} {step.item}".strip()


def _named(environment: Environment) -> str:
    return f"{environment.name} ({environment.protection})"


def _show_end(
    screen: Console, environment: Environment, promotion: Promotion, seconds: float
) -> None:
    screen.print()
    counts: dict[str, int] = {}
    for step in promotion.draft.steps:
        state = promotion.report_of(step).state.value
        counts[state] = counts.get(state, 0) + 1
    outcomes = ", ".join(f"{n} {state}" for state, n in counts.items())
    warned = counts.get(StepState.WARNED.value, 0)
    say(
        screen,
        promotion.state.value + (f", {counted(warned, 'warning')}" if warned else ""),
        f"{promotion.id}: {promotion.draft.bundle} in {_named(environment)}; "
        f"steps: {outcomes}; {spell_seconds(seconds)}.",
    )
    for step in promotion.draft.steps:
        report = promotion.report_of(step)
        if report.state in {StepState.FAILED, StepState.WARNED}:
            say(screen, report.state.value, f"{_what(step)}: {report.message}")
            print_failing_rows(screen, step.part, report, environment.name, promotion.draft.bundle)
    if promotion.state is not State.DONE:
        if promotion.message:
            screen.print(promotion.message)
        _show_ways_on(screen, promotion)


def _show_ways_on(screen: Console, promotion: Promotion) -> None:
    """The commands that help when a promotion stopped."""
    draft = promotion.draft
    screen.print(
        f"next   If the cause was outside and is mended, go on: inchworm promote {promotion.id}"
    )
    if promotion.state is State.PARTLY_DONE and draft.runs_there is not None:
        back = f"back to {draft.runs_there.bundle}"
        screen.print(f"       To take it back ({back}): inchworm rollback {promotion.id}")
    elif any(_stays(step, promotion) for step in draft.steps) and draft.runs_there:
        screen.print(f"       To take its migrations back: inchworm rollback {promotion.id}")
    screen.print(
        "       If the bundle is wrong, mend the source, pack, and promote the next one: "
        f"inchworm promote BUNDLE --to {draft.environment}"
    )


def _stays(step: Step, promotion: Promotion) -> bool:
    """Whether a step is a migration that ran, although the promotion failed."""
    is_migration = step.phase in {Phase.MIGRATE, Phase.MIGRATE_AFTER} and step.action == "run"
    return is_migration and promotion.report_of(step).state is StepState.DONE


class _Progress(Reporter):
    """One line per step when it ends; while it runs, how long already and how long usually."""

    def __init__(self, screen: Console, promotion: Promotion, usual: dict[str, float]) -> None:
        steps = promotion.draft.steps
        self._screen = screen
        self._usual = usual
        self._action = max((len(step.action) for step in steps), default=0)
        width = max((len(self._told(step)) for step in steps), default=0)
        self._lines = StepLines(screen, promotion.draft.environment, len(steps), width)

    def _told(self, step: Step) -> str:
        return f"{step.action:<{self._action}}  {_what(step)}"

    def reached(self, identity: str, at: str) -> None:
        """Say who is at work where."""
        self._screen.print(f"as {identity}, opened {shown_time(at)} UTC", style="dim")
        self._screen.print()

    def step_started(self, step: Step) -> None:
        """Show the step while it runs, where that can be erased again."""
        what = f"{step.action} {_what(step)}"
        self._lines.started(step.number, what, self._usual.get(step_key(step)))

    def step_ended(self, step: Step, report: StepReport) -> None:
        """One line for good."""
        self._lines.ended(step.number, self._told(step), report)

    def close(self) -> None:
        """Take the running line away, where there is one."""
        self._lines.close()


def _waiting(screen: Console, what: str, quiet: bool) -> Any:
    from contextlib import nullcontext

    return nullcontext() if quiet or not screen.is_terminal else screen.status(what, spinner="line")
