"""Two texts side by side, line by line, with what stayed the same folded away."""

from __future__ import annotations

from collections.abc import Iterator
from difflib import SequenceMatcher
from html import escape

from msgspec import Struct

_AROUND = 3
"""Lines shown before and after each difference."""
_LONGEST = 4_000
"""Lines of a text that are compared; a longer one is cut."""


class Row(Struct, frozen=True):
    """A line of both texts: its number and text on each side; None where it has no such line.

    A row without lines stands for lines that are the same and left out.
    """

    before: tuple[int, str] | None
    after: tuple[int, str] | None

    @property
    def is_gap(self) -> bool:
        """Whether it stands for lines that are left out."""
        return self.before is None and self.after is None

    @property
    def differs(self) -> bool:
        """Whether the two sides are not the same."""
        return (self.before and self.before[1]) != (self.after and self.after[1])


def side_by_side(before: str, after: str) -> list[Row]:
    """The rows of two texts that differ, with a few lines around each difference."""
    old, new = before.splitlines()[:_LONGEST], after.splitlines()[:_LONGEST]
    shown: list[Row] = []
    for group in SequenceMatcher(None, old, new, autojunk=False).get_grouped_opcodes(_AROUND):
        if shown:
            shown.append(Row(None, None))
        for _, i, j, k, m in group:
            left = [(n + 1, old[n]) for n in range(i, j)]
            right = [(n + 1, new[n]) for n in range(k, m)]
            for at in range(max(len(left), len(right))):
                shown.append(
                    Row(
                        left[at] if at < len(left) else None,
                        right[at] if at < len(right) else None,
                    )
                )
    return shown


def as_html(
    before: str | None, after: str | None, names: tuple[str, str] = ("live", "would be")
) -> str:
    """A table of the differences.

    Args:
        before: one text; None where it is not there.
        after: the other.
        names: what the two sides are called.
    """
    rows = side_by_side(before or "", after or "")
    body = "".join(_rows(rows))
    heads = [
        f"{name}: not there" if text is None else name
        for name, text in zip(names, (before, after), strict=True)
    ]
    head = "".join(f'<th scope="colgroup" colspan="2">{escape(each)}</th>' for each in heads)
    columns = '<colgroup><col class="number"><col><col class="number"><col></colgroup>'
    head = f"{columns}<thead><tr>{head}</tr></thead>"
    return f'<table class="difference">{head}<tbody>{body}</tbody></table>'


def _rows(rows: list[Row]) -> Iterator[str]:
    for row in rows:
        if row.is_gap:
            yield '<tr class="gap"><td colspan=4>…</td></tr>'
            continue
        kind = "differs" if row.differs else "same"
        yield (f'<tr class="{kind}">{_cell(row.before, "gone")}{_cell(row.after, "come")}</tr>')


def _cell(line: tuple[int, str] | None, side: str) -> str:
    if line is None:
        return f'<td class="number"></td><td class="none {side}"></td>'
    number, text = line
    return f'<td class="number">{number}</td><td class="{side}"><code>{escape(text)}</code></td>'
