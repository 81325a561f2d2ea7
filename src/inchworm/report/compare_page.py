"""Two sides compared, as one page: what differs, and how."""

from __future__ import annotations

from collections.abc import Iterator
from html import escape

from inchworm.application.comparing import SidesCompared
from inchworm.core.bundle.sides import PartState, counts
from inchworm.core.counting import counted
from inchworm.report.page import folded, page, section, state_of, table
from inchworm.report.side_by_side import as_html


def compare_page(compared: SidesCompared, read_at: str) -> str:
    """The page as HTML.

    Args:
        compared: the two sides, with the texts of all parts that differ.
        read_at: when they were read, ISO 8601, UTC.
    """
    a, b = compared.a.name, compared.b.name
    summary = ", ".join(
        f"{counted(n, 'part')} {s.value}" for s, n in counts(compared.parts).items()
    )
    body = [
        f'<p class="quiet">read {read_at[:16].replace("T", " ")} UTC</p>',
        f"<h1>{escape(a)} and {escape(b)}</h1>",
        f"<p>{escape(summary or 'nothing on either side')}.</p>",
        *section("Parts", _parts(compared)),
        *section("Schedules", _schedules(compared)),
        *section("Rights", _rights(compared)),
        *section("Side by side", _texts(compared)),
    ]
    return page(f"{a} and {b}", body)


def _parts(compared: SidesCompared) -> Iterator[str]:
    lines = [
        (
            state_of(c.state.value, c.state is PartState.HELD),
            str(c.part),
            c.a,
            c.b,
            "; ".join(c.details),
        )
        for c in compared.parts
        if c.state is not PartState.SAME
    ]
    if lines:
        headings = ("", "part", f"in {compared.a.name}", f"in {compared.b.name}", "")
        yield folded(counted(len(lines), "part"), table(headings, lines), len(lines))


def _schedules(compared: SidesCompared) -> Iterator[str]:
    if compared.schedules:
        yield table(("schedule", compared.a.name, compared.b.name), compared.schedules)


def _rights(compared: SidesCompared) -> Iterator[str]:
    if compared.rights:
        yield table(("on, to", compared.a.name, compared.b.name), compared.rights)


def _texts(compared: SidesCompared) -> Iterator[str]:
    names = (compared.a.name, compared.b.name)
    for text in compared.texts:
        for path, (before, after) in text.files.items():
            if before != after:
                yield f"<details open><summary><b>{escape(path)}</b></summary>"
                yield f"{as_html(before, after, names)}</details>"
