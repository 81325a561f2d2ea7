"""Promotions over time as a picture: a line for each environment, a mark for each promotion."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from inchworm.core.promotion.states import State
from inchworm.report.figures import new_figure, save


class Moment(Struct, frozen=True, kw_only=True):
    """A promotion, as far as it is drawn.

    Attributes:
        at: when it last moved, ISO 8601, UTC.
        is_rollback: whether it took others back.
    """

    environment: str
    bundle: str
    state: State
    at: str
    is_rollback: bool = False


_MARKS = (
    ("done", "o", "#1b6e53"),
    ("taken back later", "d", "#8a3f6b"),
    ("rollback", "<", "#8a3f6b"),
    ("partly done", "s", "#b07818"),
    ("failed", "X", "#a3261c"),
    ("running", "^", "#5b6661"),
)
_LABELLED = 40
"""Promotions up to which each has the name of its bundle."""


def draw_promotions(
    moments: Sequence[Moment], environments: Sequence[str], file: Path, title: str
) -> None:
    """Draw promotions over time.

    Args:
        moments: the promotions.
        environments: names from the first to the last of the route; drawn from below upwards.
        file: the picture.
        title: what stands above it.

    Raises:
        UsageError: when matplotlib is missing, or the file's ending is no kind of picture.
    """
    figure = new_figure((10.0, 1.6 + 0.9 * max(len(environments), 1)))
    axes = figure.add_subplot()
    for name, mark, colour in _MARKS:
        those = [m for m in moments if _kind(m) == name]
        if those:
            axes.scatter(
                [dt.datetime.fromisoformat(m.at) for m in those],  # type: ignore[arg-type]
                [environments.index(m.environment) for m in those],
                marker=mark,
                s=70,
                color=colour,
                label=name,
                zorder=3,
            )
    if len(moments) <= _LABELLED:
        for at, moment in enumerate(sorted(moments, key=lambda m: m.at)):
            axes.annotate(
                moment.bundle.rpartition("-")[2] or moment.bundle,
                (dt.datetime.fromisoformat(moment.at), environments.index(moment.environment)),
                xytext=(0, 9 if at % 2 else -15),
                textcoords="offset points",
                ha="center",
                fontsize=8,
                color="#5b6661",
            )
    axes.set_yticks(range(len(environments)), environments)
    axes.set_ylim(-0.6, max(len(environments) - 0.4, 0.6))
    axes.set_xlabel("UTC")
    axes.set_title(title)
    axes.margins(x=0.06)
    axes.grid(axis="y", color="#dfe4e1")
    axes.legend(loc="upper left", bbox_to_anchor=(1.01, 1), frameon=False)
    figure.autofmt_xdate()
    figure.tight_layout()
    save(figure, file)


def _kind(moment: Moment) -> str:
    if moment.state is State.DONE and moment.is_rollback:
        return "rollback"
    return "taken back later" if moment.state is State.UNDONE else moment.state.value
