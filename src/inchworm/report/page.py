"""Pages that need no network and no script, read on a telephone, and print."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from html import escape

LONG = 30
"""Rows from which a table is folded."""

STYLE = """
:root { color-scheme: light dark; --ink: #1b1f2a; --quiet: #5b6661; --line: #d5dad3;
        --paper: #fdfcf8; --sheet: #fff; --good: #1b6e53; --bad: #a3261c; --care: #8a5a00;
        --tint: #eef2f0; --gone: #fbeae7; --come: #e6f2ec; --touched: #f6eedd; --edge: #23527c; }
@media screen and (prefers-color-scheme: dark) {
  :root { --ink: #e4e6e1; --quiet: #a2aca7; --line: #3a423f; --paper: #151917; --sheet: #1c211f;
          --good: #6cc7a4; --bad: #f08d83; --care: #e3b55c; --tint: #242b28; --gone: #46241f;
          --come: #1d3a2f; --touched: #453a20; --edge: #8db8dd; }
}
body { font: 16px/1.5 system-ui, sans-serif; color: var(--ink); background: var(--paper);
       margin: 0 auto; max-width: 76rem; padding: 1rem 1.25rem 4rem; }
h1 { font-size: 1.5rem; margin: .2rem 0; } h2 { font-size: 1.15rem; margin: 2.2rem 0 .6rem; }
.quiet { color: var(--quiet); } .good { color: var(--good); } .bad { color: var(--bad); }
.care { color: var(--care); } .good, .bad, .care { font-weight: 600; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; vertical-align: top; padding: .3rem .9rem .3rem 0;
         border-bottom: 1px solid var(--line); overflow-wrap: break-word; }
th { font-weight: 600; color: var(--quiet); }
dl { display: grid; grid-template-columns: max-content 1fr; gap: .35rem 1.2rem; margin: 1rem 0; }
dt { color: var(--quiet); } dd { margin: 0; }
.verdict { border: 1px solid var(--line); border-left: 6px solid var(--quiet);
           background: var(--sheet); padding: .2rem 1.2rem .6rem; margin: 1rem 0; }
.verdict.good { border-left-color: var(--good); } .verdict.bad { border-left-color: var(--bad); }
.verdict.care { border-left-color: var(--care); } .verdict { font-weight: 400; color: var(--ink); }
.verdict > p:first-child { font-size: 1.15rem; font-weight: 600; margin: .6rem 0; }
code, pre { font: 13px/1.5 ui-monospace, monospace; } pre { white-space: pre-wrap;
       background: var(--tint); padding: .6rem .8rem; margin: .4rem 0; overflow-wrap: anywhere; }
code { white-space: pre-wrap; overflow-wrap: anywhere; }
details { border-top: 1px solid var(--line); padding: .35rem 0; }
summary { cursor: pointer; } summary b { font-weight: 600; }
.difference { table-layout: fixed; margin: .5rem 0 1rem; background: var(--sheet); }
.difference td, .difference th { border: 0; padding: 0 .6rem; }
.difference col.number { width: 2.6rem; }
.difference td.number { color: var(--quiet); text-align: right; padding: 0 .3rem;
       font: 12px/1.7 ui-monospace, monospace; }
.differs td.gone { background: var(--gone); } .differs td.come { background: var(--come); }
.difference td.none { background: var(--tint) !important; } .gap td { color: var(--quiet); }
.lineage { max-width: 100%; height: auto; background: var(--sheet); border: 1px solid var(--line); }
.lineage rect { fill: var(--tint); stroke: var(--quiet); }
.lineage .touched rect { fill: var(--touched); stroke: var(--care); stroke-width: 2.5; }
.lineage text { font: 12px system-ui, sans-serif; fill: var(--ink); }
.lineage .touched text { font-weight: 700; }
.lineage .edge { fill: none; stroke: var(--edge); } .lineage marker path { fill: var(--edge); }
@media (max-width: 44rem) {
  dl { grid-template-columns: 1fr; gap: 0; } dd { margin-bottom: .6rem; }
  table:not(.difference) thead { display: none; }
  table:not(.difference) tr { display: block; padding: .4rem 0;
                              border-bottom: 1px solid var(--line); }
  table:not(.difference) td { display: block; border: 0; padding: .05rem 0; }
  td[data-what]::before { content: attr(data-what) ": "; color: var(--quiet); }
  .difference, .difference tbody, .difference tr, .difference td { display: block; }
  .difference td.number, .difference thead, .difference colgroup,
  .difference tr.same td.come, .difference td.none { display: none; }
}
@media print {
  body { max-width: none; font-size: 11pt; } details { break-inside: avoid; }
  details::details-content { content-visibility: visible; block-size: auto; }
}
"""


def page(title: str, body: Iterable[str]) -> str:
    """A page as HTML, from its title and the HTML of its body."""
    return (
        '<!doctype html><html lang="en"><head><meta charset="utf-8">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(title)}</title><style>{STYLE}</style></head>"
        f"<body>{''.join(body)}</body></html>\n"
    )


def section(heading: str, content: Iterable[str]) -> Iterator[str]:
    """A section, unless nothing is in it."""
    body = "".join(content)
    if body:
        yield f"<section><h2>{escape(heading)}</h2>{body}</section>"


class Html(str):
    """A text that is HTML already."""

    __slots__ = ()


def code(text: str) -> Html:
    """A command or name, as it is typed."""
    return Html(f"<code>{escape(text)}</code>")


def as_text(text: str) -> str:
    """A text as HTML, unless it is that already."""
    return text if isinstance(text, Html) else escape(text)


def state_of(text: str, is_good: bool) -> Html:
    """A state, coloured as one that is good or one to take care of."""
    return Html(f'<span class="{"good" if is_good else "care"}">{escape(text)}</span>')


def table(headings: Sequence[str], lines: Iterable[Sequence[str]]) -> str:
    """A table; on a narrow screen, each cell names its column."""
    head = "".join(map(heading_cell, headings))
    body = "".join(
        f"<tr>{''.join(_cell(h, text) for h, text in zip(headings, line, strict=True))}</tr>"
        for line in lines
    )
    return f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>"


def heading_cell(heading: str) -> str:
    """The cell at the head of a column; of one without a name, an empty one that heads nothing."""
    return f'<th scope="col">{escape(heading)}</th>' if heading else "<td></td>"


def _cell(heading: str, text: str) -> str:
    what = f' data-what="{escape(heading)}"' if heading and text else ""
    return f"<td{what}>{as_text(text)}</td>"


def folded(summary: str, content: str, size: int) -> str:
    """Some content, folded away where it has many rows."""
    if size <= LONG:
        return content
    return f"<details><summary>{escape(summary)} ({size})</summary>{content}</details>"
