"""Options that several commands have."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from inchworm.core.parameters.values import read_duration

PARTLY_DONE = 5
"""The exit code of a promotion or run of which some steps took effect, and some failed."""

_F = TypeVar("_F", bound=Callable[..., Any])
_Decorator = Callable[[_F], _F]


def _together(*options: Callable[[Any], Any]) -> Callable[[_F], _F]:
    def decorate(function: _F) -> _F:
        for option in reversed(options):
            function = option(function)
        return function

    return decorate


allowing = _together(
    click.option("--overwrite", is_flag=True, help="Changes made there by hand may be lost."),
    click.option(
        "--put-back", is_flag=True, help="Make tables again, empty, that are missing there."
    ),
    click.option(
        "--resume",
        "resumed",
        multiple=True,
        metavar="NAME",
        help="A schedule or flow that was stopped by hand runs again; can be repeated.",
    ),
)
"""What a draft may do although somebody's hand was in between."""

drafting = _together(
    click.option("--draft", "only_draft", is_flag=True, help="Stop after recording the draft."),
    click.option("--yes", is_flag=True, envvar="INCHWORM_YES", help="Do not ask."),
    click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/promotion/1."),
)
"""How far a draft goes, and how it is talked about."""


def duration(text: str | None) -> float:
    """A duration as ``--wait`` gives it, in seconds; 0 where it is not given."""
    if text is None:
        return 0.0
    try:
        return read_duration(text).total_seconds()
    except ValueError as error:
        raise click.UsageError(f"--wait: {error}.") from error
