"""The entries of a period as one page: what, by whom, with whose consent, and how it went."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from html import escape

from inchworm.application.auditing import Audit, EntryRecord
from inchworm.core.checks.findings import Severity
from inchworm.core.counting import counted
from inchworm.core.entry.approvals import signature_in
from inchworm.core.entry.judging import CheckedApproval
from inchworm.core.entry.rules import OF_RULES
from inchworm.core.execution import StepState
from inchworm.core.promotion.states import State
from inchworm.report.page import Html, code, page, section, state_of, table


def audit_page(audit: Audit, read_at: str) -> str:
    """The page.

    Args:
        audit: the entries.
        read_at: when the ledger was read, ISO 8601, UTC.
    """
    where = audit.wanted.environment or "all environments"
    since, until = audit.wanted.since, audit.wanted.until
    period = " ".join([*([f"from {since}"] if since else []), *([f"to {until}"] if until else [])])
    title = f"Entries into {where}" + (f", {period}" if period else "")
    body = [
        f"<h1>{escape(title)}</h1>",
        f'<p class="quiet">As ledger {escape(audit.ledger)} tells at {_shown(read_at)}. Its chain '
        "of entries was followed, and holds.</p>",
        *_verdict(audit),
        *section("Entries that need a look", _exceptional(audit)),
        *section("All entries", _all(audit)),
        *section("Entries by promotions of other ledgers", _heard(audit)),
        *(piece for record in audit.entries for piece in _entry(record)),
    ]
    return page(title, body)


def _shown(at: str) -> str:
    return f"{at[:16].replace('T', ' ')} UTC"


def _verdict(audit: Audit) -> Iterator[str]:
    """How many there were, and how many of them need a look."""
    states = Counter(record.promotion.state.value for record in audit.entries)
    counts = ", ".join(f"{number} {state}" for state, number in sorted(states.items()))
    looked_at = sum(bool(_remarks(record)) for record in audit.entries)
    kind = "care" if looked_at else "good"
    yield f'<div class="verdict {kind}"><p>{counted(len(audit.entries), "promotion")}'
    yield f": {escape(counts)}</p>" if counts else "</p>"
    need = "needs" if looked_at == 1 else "need"
    yield f"<p>{looked_at or 'None'} of them {need} a look.</p></div>"


def _remarks(record: EntryRecord) -> list[str]:
    """Why an entry needs a look; empty of one that went as it should."""
    promotion, draft = record.promotion, record.promotion.draft
    remarks = []
    if promotion.admission is not None and promotion.admission.exception:
        remarks.append(f"by exception, {promotion.admission.exception}")
    if promotion.state not in (State.DONE, State.UNDONE):
        remarks.append(f"{promotion.state.value}: {promotion.message}".rstrip(": "))
    if draft.rollback is not None:
        because = f": {draft.rollback.because}" if draft.rollback.because else ""
        remarks.append(f"a rollback{because}")
    if record.undone_by:
        remarks.append(f"taken back by {', '.join(record.undone_by)}")
    remarks += [
        f"an approval of {each.person.name} does not count: {each.problem}"
        for each in record.approvals
        if each.problem
    ]
    remarks += [
        finding.message
        for finding in draft.findings
        if finding.rule in OF_RULES and draft.rules.demands_something
    ]
    if draft.is_choice:
        remarks.append("only some parts of the bundle")
    if draft.overrides:
        remarks.append(f"with values given for once: {', '.join(draft.overrides)}")
    if draft.by_hand:
        remarks.append("changes made by hand were there before")
    return remarks


def _exceptional(audit: Audit) -> Iterator[str]:
    lines = [
        (_link(record), record.promotion.draft.environment, "\n".join(remarks))
        for record in audit.entries
        if (remarks := _remarks(record))
    ]
    if lines:
        yield table(("promotion", "into", "why"), lines)


def _link(record: EntryRecord) -> Html:
    name = escape(str(record.promotion.id))
    return Html(f'<a href="#{name}">{name}</a>')


def _all(audit: Audit) -> Iterator[str]:
    if not audit.entries:
        yield "<p>Nothing entered in this period.</p>"
        return
    yield table(
        ("promotion", "into", "bundle", "commit", "state", "when", "by", "consent"),
        [
            (
                _link(record),
                record.promotion.draft.environment,
                record.promotion.draft.bundle,
                (record.promotion.commit or "-")[:7],
                state_of(record.promotion.state.value, record.promotion.state is State.DONE),
                _shown(record.at),
                record.by,
                ", ".join(_consents(record)) or "-",
            )
            for record in audit.entries
        ],
    )


def _consents(record: EntryRecord) -> list[str]:
    return [
        f"{each.person.name}{' (signed)' if each.is_signed else ''}"
        for each in record.approvals
        if not each.problem
    ]


def _heard(audit: Audit) -> Iterator[str]:
    if audit.heard:
        yield table(
            ("promotion", "into", "bundle", "when", "by"),
            [
                (
                    each.promotion.named(audit.ledger),
                    each.environment,
                    each.promotion.bundle,
                    _shown(each.promotion.at),
                    each.promotion.by,
                )
                for each in audit.heard
            ],
        )


def _entry(record: EntryRecord) -> Iterator[str]:
    """One entry, with its evidence."""
    promotion, draft = record.promotion, record.promotion.draft
    name = escape(str(promotion.id))
    yield f'<section id="{name}"><h2>{name}: {escape(draft.bundle)} into '
    yield f"{escape(draft.environment)}</h2><dl>"
    facts = [
        ("state", state_of(promotion.state.value, promotion.state is State.DONE)),
        ("drafted", f"{_shown(promotion.drafted_at)} by {promotion.drafted_by}"),
        ("entered", f"{_shown(record.at)} by {record.by}"),
        ("commit", promotion.commit or "-"),
        ("bundle", code(draft.bundle_digest)),
        ("draft", code(draft.digest)),
        ("manifest", code(draft.bundle_seal or "-")),
        ("rules", code(draft.rules.digest or "-")),
        ("rules of commit", draft.rules.commit or "not committed"),
        ("ran before", draft.runs_there.bundle if draft.runs_there else "nothing"),
    ]
    for term, text in facts:
        yield f"<dt>{term}</dt><dd>{text if isinstance(text, Html) else escape(text)}</dd>"
    yield "</dl>"
    if remarks := _remarks(record):
        yield f'<p class="care">{escape("; ".join(remarks))}</p>'
    yield from _evidence(record)
    yield _steps(record)
    yield "</section>"


def _evidence(record: EntryRecord) -> Iterator[str]:
    admission = record.promotion.admission
    if admission is not None and admission.judged:
        yield "<h3>Entry conditions</h3>"
        yield table(
            ("", "condition", "evidence"),
            [
                (state_of("met" if j.is_met else "missing", j.is_met), j.condition, j.evidence)
                for j in admission.judged
            ],
        )
    if record.approvals:
        yield "<h3>Approvals</h3>"
        yield table(
            ("", "by", "known by", "when", "because"),
            [
                (
                    state_of(each.approval.verdict.value, not each.problem),
                    each.person.name,
                    f"a signature with {_key_in(each)}"
                    if each.is_signed
                    else each.approval.identity.value,
                    _shown(each.approval.at),
                    each.problem or each.approval.because,
                )
                for each in record.approvals
            ],
        )
    findings = [f for f in record.promotion.draft.findings if f.severity is not Severity.NOTE]
    if findings:
        yield "<h3>Findings</h3>"
        yield table(
            ("", "part", "what"),
            [(f.severity.value, str(f.part or ""), f.message) for f in findings],
        )


def _key_in(checked: CheckedApproval) -> str:
    signature = signature_in(checked.approval)
    return f"the key {signature[0]}" if signature is not None else "a key"


_MOST_STEPS = 200
"""Steps up to which all of an entry are listed; of more, those that did not simply end well."""


def _steps(record: EntryRecord) -> str:
    promotion = record.promotion
    steps = promotion.draft.steps
    listed = [
        step
        for step in steps
        if len(steps) <= _MOST_STEPS or promotion.report_of(step).state is not StepState.DONE
    ]
    lines = [
        (
            str(step.number),
            step.action,
            f"{step.part} {step.item}".strip(),
            step.reason,
            promotion.report_of(step).state.value,
            promotion.report_of(step).message,
        )
        for step in listed
    ]
    summary = counted(len(steps), "step")
    if len(listed) < len(steps):
        actions = Counter(step.action for step in steps)
        counts = ", ".join(f"{number:,} {action}" for action, number in sorted(actions.items()))
        summary += f" ({counts}); here those that did not simply end well: {len(listed):,}"
    content = table(("", "", "part", "why", "state", ""), lines)
    return f"<details><summary>{escape(summary)}</summary>{content}</details>"
