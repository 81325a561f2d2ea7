"""The statements of steps as a script."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from inchworm.core.promotion.promotion import Step


def steps_sql(of_steps: Iterable[tuple[Step, Sequence[str]]]) -> str:
    """The statements of steps, each step's under a comment that names it."""
    pieces = []
    for step, statements in of_steps:
        if not statements:
            continue
        what = f"{step.number}. {step.action} {step.part} {step.item}".strip()
        pieces.append(f"-- {what}")
        pieces += [f"{each.rstrip().rstrip(';')};" for each in statements]
        pieces.append("")
    return "\n".join(pieces)
