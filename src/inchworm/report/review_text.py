"""A review as Markdown, for a comment on a proposal."""

from __future__ import annotations

from collections.abc import Iterator
from difflib import unified_diff

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
    yield f"### {promotion.id}: {draft.bundle} {into} {draft.environment} "
    yield ""
    yield f"**{verdict_of(review)[0]}**"
    yield ""
    ran = draft.runs_there
    yield f"- runs there now: {ran.bundle if ran else 'nothing'}"
    yield f"- affects further: {', '.join(review.affected) or 'nothing'}"
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
        yield from ("", f"<details><summary>{file.path}</summary>", "", "````diff")
        yield from lines[:_LINES]
        yield "````"
        if len(lines) > _LINES:
            yield f"... and {len(lines) - _LINES} more lines"
        yield from ("", "</details>")


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ")
