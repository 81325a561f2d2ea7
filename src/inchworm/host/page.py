"""The page of a host: what is live, what runs, how runs ended, and when what is due.

One page, without scripts, that reads on a telephone and on paper.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Sequence
from html import escape
from zoneinfo import ZoneInfo

from inchworm.core.ledger.runs import RunSummary
from inchworm.core.parameters.values import spell_ahead
from inchworm.core.running.schedules import next_times
from inchworm.host.host import NotBegun, Watched

STYLE = """
:root { color-scheme: light dark; --ink: #1b1f2a; --quiet: #5b6661; --line: #cfd6d2;
        --faint: #ebe8df; --paper: #fdfcf8; --good: #1b6e53; --bad: #a3261c; --care: #8a5a00; }
@media screen and (prefers-color-scheme: dark) {
  :root { --ink: #e4e6e1; --quiet: #a2aca7; --line: #3a423f; --faint: #2a312e; --paper: #151917;
          --good: #6cc7a4; --bad: #f08d83; --care: #e3b55c; }
}
body { font: 16px/1.45 system-ui, sans-serif; color: var(--ink); background: var(--paper);
       margin: 0 auto; max-width: 60rem; padding: 1rem; }
h1 { font-size: 1.4rem; } h2 { font-size: 1.15rem; margin-top: 2rem; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; vertical-align: top; padding: .3rem .8rem .3rem 0; }
th:first-child:nth-last-child(3) { width: 40%; } th:nth-child(2):nth-last-child(2) { width: 15%; }
th { font-weight: 600; color: var(--quiet); border-bottom: 1px solid var(--line); }
td { border-bottom: 1px solid var(--faint); overflow-wrap: anywhere; }
.failed, .broken { color: var(--bad); font-weight: 600; } .done { color: var(--good); }
.partly, .stopped, .paused { color: var(--care); font-weight: 600; }
.quiet { color: var(--quiet); }
@media (max-width: 40rem) {
  thead { display: none; } tr { display: block; padding: .5rem 0; }
  td { display: block; border: 0; padding: .05rem 0; }
  td[data-what]::before { content: attr(data-what) ": "; color: var(--quiet); }
}
"""


def page(watched: Sequence[Watched], runs: Iterable[RunSummary], now: dt.datetime) -> str:
    """The page as HTML.

    Args:
        watched: the environments.
        runs: the latest runs, the latest first.
        now: the present time, with a zone.
    """
    names = ", ".join(each.name for each in watched)
    body = [
        f"<h1>Inchworm host of {escape(names)}</h1>",
        f'<p class="quiet">read {now.astimezone(dt.UTC):%Y-%m-%d %H:%M:%S} UTC</p>',
        '<p class="quiet"><a href="/full">Show errors and names</a> (needs a token).</p>',
        *(part for each in watched for part in _environment(each, now)),
        "<h2>Latest runs</h2>",
        _table(
            ("run", "in", "what", "state", "began, UTC", "started by", ""),
            (_run(run) for run in runs),
            "Nothing ran yet.",
        ),
    ]
    return (
        '<!doctype html><html lang="en"><head><meta charset="utf-8">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>Inchworm: {escape(names)}</title><style>{STYLE}</style></head>"
        f"<body>{''.join(body)}</body></html>"
    )


def _environment(each: Watched, now: dt.datetime) -> Iterator[str]:
    yield f"<h2>{escape(each.name)}{_protection(each)}</h2>"
    for trouble in each.live.troubles if each.live else ():
        yield f'<p><span class="failed">cannot be looked for</span> {escape(trouble)}</p>'
    if each.problem:
        yield f'<p><span class="failed">cannot be read</span> {escape(each.problem)}</p>'
    for at_work in each.jobs:
        began = at_work.began.astimezone(dt.UTC)
        yield f"<p><b>{escape(at_work.job.name)}</b> runs since {began:%H:%M:%S} UTC.</p>"
    yield from map(_not_begun, each.not_begun)
    if each.live is None:
        return
    last = each.live.last
    if last is None:
        yield "<p>Nothing was promoted here yet.</p>"
    else:
        commit = escape((last.commit or "-")[:7])
        since = escape(last.at[:16].replace("T", " "))
        yield (
            f"<p>{escape(last.bundle)} is live since {since} UTC"
            f"{f', by {escape(last.by)}' if last.by else ''}, commit {commit}.</p>"
        )
    for pause in dict.fromkeys(s.pause for s in each.live.schedules if s.pause is not None):
        what = pause.what or "everything here"
        yield f"<p><b>{escape(what)}</b> is paused, {escape(pause.in_words)}.</p>"
    if each.live.ahead:
        by = spell_ahead(each.live.ahead)
        yield f"<p>Schedules go by the clock of its workspace, which is {by}.</p>"
    rows = (
        (
            escape(schedule.name),
            _state(schedule.shown_state),
            escape(schedule.scheduled.text)
            if not schedule.scheduled.cron
            else "<br>".join(
                f"{due.astimezone(ZoneInfo(schedule.scheduled.timezone)):%Y-%m-%d %H:%M} "
                f"{escape(schedule.scheduled.timezone)}"
                for due in next_times(schedule.scheduled, now + each.live.ahead, 3)
            )
            if schedule.starts
            else "-",
        )
        for schedule in each.live.schedules
    )
    yield _table(("schedule", "state", "due"), rows, "There are no schedules.")


def _not_begun(each: NotBegun) -> str:
    by = f"schedule {each.job.schedule}" if each.job.schedule else "a call"
    later = " It is tried again." if each.is_tried_again else ""
    return (
        f'<p><span class="failed">did not begin</span> <b>{escape(each.job.name)}</b>, '
        f"by {escape(by)}, at {each.at.astimezone(dt.UTC):%Y-%m-%d %H:%M:%S} UTC: "
        f"{escape(each.why) or 'the reason is shown with a token.'}{later}</p>"
    )


def _protection(each: Watched) -> str:
    is_protected = each.live is not None and each.live.environment.protected
    return ' <span class="quiet">(protected)</span>' if is_protected else ""


def _run(run: RunSummary) -> tuple[str, ...]:
    return (
        escape(str(run.id)),
        escape(run.environment),
        escape(str(run.subject)),
        _state(run.state.value),
        escape(run.began_at[:16].replace("T", " ")),
        escape(", ".join(filter(None, (run.began_by, run.started)))),
        escape(run.message),
    )


def _state(state: str) -> str:
    return f'<span class="{escape(state.split()[0])}">{escape(state)}</span>'


def _table(headings: Sequence[str], rows: Iterable[Sequence[str]], otherwise: str) -> str:
    """A table of cells that are HTML already; on a narrow screen each cell names its column."""
    lines = [
        "<tr>"
        + "".join(
            f'<td data-what="{escape(heading)}">{cell}</td>' if heading else f"<td>{cell}</td>"
            for heading, cell in zip(headings, row, strict=True)
        )
        + "</tr>"
        for row in rows
    ]
    if not lines:
        return f'<p class="quiet">{escape(otherwise)}</p>'
    head = "".join(
        f'<th scope="col">{escape(heading)}</th>' if heading else "<td></td>"
        for heading in headings
    )
    return f"<table><thead><tr>{head}</tr></thead><tbody>{''.join(lines)}</tbody></table>"
