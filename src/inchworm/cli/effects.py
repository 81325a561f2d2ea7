"""What each command may do besides printing: declared here, and held by a test under an audit hook.

``python -m inchworm.cli.effects`` prints the table of ``docs/trust.md``.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from enum import StrEnum


class Effect(StrEnum):
    """Something that a command may do."""

    KEEP = "writes .inchworm"
    """Caches, locks, bundles and simulated services below the project."""
    TREE = "writes the tree"
    """Files of the project."""
    OUTPUT = "writes a file"
    """The file that an option names."""
    USER = "writes your folder"
    """The user's own configuration folder."""
    GIT = "asks git"
    """Without anything that the repository's configuration would start."""
    PROGRAMS = "starts programs"
    """Tests, commands of entry conditions, kernels, runs."""
    CODE = "runs the project's code"
    """In a process of its own."""
    TARGETS = "reaches environments"
    """Their databases, services, notebook servers and secret stores."""
    LEDGER = "reaches ledger and bundles"
    """The ledger and the bundle store."""


_E = Effect
_LOOKS = frozenset({_E.KEEP, _E.GIT, _E.USER})
_ASKS = _LOOKS | {_E.TARGETS, _E.LEDGER}
_CARRIES_OUT = _ASKS | {_E.PROGRAMS, _E.CODE}

EFFECTS: Mapping[str, frozenset[Effect]] = {
    "new": frozenset({_E.TREE, _E.USER}),
    "trust": _LOOKS,
    "rows": _LOOKS | {_E.TARGETS},
    "params": _LOOKS | {_E.TREE, _E.TARGETS, _E.LEDGER},
    "version": _ASKS | {_E.TREE},
    "check": _LOOKS,
    "trace": _LOOKS | {_E.OUTPUT},
    "pack": _CARRIES_OUT,
    "bundles": _ASKS,
    "promote": _CARRIES_OUT,
    "review": _ASKS | {_E.OUTPUT},
    "approve": _ASKS,
    "run": _CARRIES_OUT,
    "pause": _ASKS,
    "serve": _CARRIES_OUT,
    "status": _ASKS,
    "compare": _ASKS | {_E.OUTPUT},
    "drift": _ASKS,
    "doctor": _ASKS,
    "history": _ASKS | {_E.OUTPUT},
    "rollback": _CARRIES_OUT,
    "hold": _CARRIES_OUT,
    "adopt": _ASKS | {_E.TREE},
    "waive": _LOOKS | {_E.TREE, _E.LEDGER},
    "ledger": _ASKS,
    "demo": _CARRIES_OUT | {_E.TREE},
    "sim": _ASKS,
}
"""By command; reading the tree and the user's own folder is every command's."""

NEEDS_TRUST = frozenset({_E.PROGRAMS, _E.CODE, _E.TARGETS, _E.LEDGER})
"""What no command does in a project that is not trusted."""


def table() -> Iterator[str]:
    """The table as Markdown, a line each."""
    yield f"| command | {' | '.join(effect.value for effect in Effect)} |"
    yield f"|---|{'---|' * len(Effect)}"
    for command, effects in EFFECTS.items():
        marks = ("yes" if effect in effects else "" for effect in Effect)
        yield f"| `{command}` | {' | '.join(marks)} |"


if __name__ == "__main__":
    print("\n".join(table()))
