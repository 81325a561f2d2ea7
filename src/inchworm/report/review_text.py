"""A review as Markdown, for a comment on a proposal."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from difflib import unified_diff
from html import escape

from inchworm.application.reviewing import Review
from inchworm.report.review_page import verdict_of

_STEPS = 40
_LINES = 200
"""Lines of a file's differences that a comment shows."""


def review_markdown(review: Review) -> str:
    """The review in the words of its page, as CommonMark with tables."""
    return "\n".join(_markdown(review)) + "\n"


def _markdown(review: Review) -> Iterator[str]:
    promotion, draft = review.promotion, review.promotion.draft
    into = "back into" if draft.rollback else "into"
    yield f"### {promotion.id}: {_cell(draft.bundle)} {into} {_cell(draft.environment)}"
    yield ""
    yield f"**{_cell(verdict_of(review)[0])}**"
    yield ""
    ran = draft.runs_there
    yield f"- runs there now: {_cell(ran.bundle) if ran else 'nothing'}"
    yield f"- affects further: {_cell(', '.join(review.affected)) or 'nothing'}"
    if review.entry.judged:
        yield from ("", "| entry | condition | evidence |", "|---|---|---|")
        for each in review.entry.judged:
            state = "met" if each.is_met else "**missing**"
            yield f"| {state} | {_cell(each.condition)} | {_cell(each.evidence)} |"
    yield from ("", "| step | what | part | why |", "|---|---|---|---|")
    for step in draft.steps[:_STEPS]:
        part = f"{step.part} {step.item}".strip()
        yield f"| {step.number} | {step.action} | {_cell(part)} | {_cell(step.reason)} |"
    if len(draft.steps) > _STEPS:
        yield f"\n... and {len(draft.steps) - _STEPS} more steps"
    if draft.findings:
        yield from ("", "| severity | rule | what |", "|---|---|---|")
        for finding in draft.findings:
            yield f"| {finding.severity.value} | {finding.rule} | {_cell(finding.message)} |"
    for file in review.files:
        before, after = (file.before or "").splitlines(), (file.after or "").splitlines()
        lines = list(unified_diff(before, after, "live", "would be", lineterm="", n=2))
        fence = _fence(lines)
        yield from ("", f"<details><summary>{escape(file.path)}</summary>", "", f"{fence}diff")
        yield from lines[:_LINES]
        yield fence
        if len(lines) > _LINES:
            yield f"... and {len(lines) - _LINES} more lines"
        yield from ("", "</details>")


def _fence(lines: Sequence[str]) -> str:
    """A fence that is longer than any row of backticks in the text that it is around."""
    longest = max((len(run) for line in lines for run in re.findall("`+", line)), default=0)
    return "`" * max(4, longest + 1)


def _cell(text: str) -> str:
    """A text as it can stand in a table: nothing of it is HTML, a link, or ends the cell."""
    return _SPECIAL.sub(r"\\\g<0>", escape(" ".join(text.split()), quote=False))


_SPECIAL = re.compile(r"[\\`*_\[\]|~!@]")
"""What Markdown, or who shows it, makes something of."""
