"""The rules of an environment: what it demands, by which files, and where these come from.

The database of an environment remembers by which rules the last promotion came in, so that nobody
weakens them unseen.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.entry.conditions import NO_CONDITIONS, EntryConditions
from inchworm.core.entry.people import People
from inchworm.core.parts import digest_of


class Rules(Struct, frozen=True, kw_only=True):
    """The rules by which something is let into an environment.

    Attributes:
        digest: of all that the environment's file demands, and of ``people.toml``; empty where
            that is not known.
        commit: the commit that has just these rules; empty where they are not committed.
        branch: the branch from which they are taken; empty where the working tree's count.
        demands: the conditions, as plain data.
    """

    digest: str = ""
    commit: str = ""
    branch: str = ""
    demands: Mapping[str, Any] = field(default_factory=dict)

    @classmethod
    def of(
        cls,
        conditions: EntryConditions,
        protected: bool,  # one of the things that are digested
        people: People,
        commit: str,
        branch: str,
    ) -> Rules:
        """Return the rules that conditions and people are."""
        demands = conditions.to_json() | {"protected": protected}
        everybody = {name: repr(person) for name, person in sorted(people.by_name.items())}
        text = json.dumps([demands, everybody], sort_keys=True)
        return cls(digest=digest_of(text.encode()), commit=commit, branch=branch, demands=demands)

    @property
    def text(self) -> str:
        """The rules as the bookkeeping has them, in JSON; empty where they are not known."""
        return json.dumps(asdict(self), sort_keys=True) if self.digest else ""

    @classmethod
    def read(cls, text: str | None) -> Rules:
        """Return the rules that a text of the bookkeeping is."""
        return cls(**json.loads(text)) if text else NO_RULES

    @property
    def demands_something(self) -> bool:
        """True if anything has to be met, or the environment is protected."""
        nothing = _plain(NO_CONDITIONS.to_json() | {"protected": False})
        return bool(self.demands) and _plain(self.demands) != nothing


NO_RULES = Rules()

OF_RULES = frozenset({rules.RULES_CHANGED.id, rules.RULES_UNCOMMITTED.id})
"""Ids of findings that tell of the rules by which a promotion was let in."""


def rule_findings(
    environment: str, now: Rules, before: Rules, commit: str | None
) -> Iterator[Finding]:
    """Say what is to be known of the rules by which a draft is let in.

    Args:
        environment: the environment's name.
        now: the rules that count.
        before: those by which the last promotion came in.
        commit: the commit of the bundle that is drafted.
    """
    if not now.digest or not (now.demands_something or before.demands_something):
        return
    if before.digest and before.digest != now.digest:
        weaker = list(_weaker(now, before))
        what = f"weaker than before: {'; '.join(weaker)}" if weaker else "other rules than before"
        since = f" (those were of commit {before.commit[:7]})" if before.commit else ""
        if commit and now.commit == commit:
            since += ", changed together with what is promoted"
        yield rules.RULES_CHANGED.finding(
            f"the rules of {environment} are {what}{since}",
            severity=None if weaker else Severity.NOTE,
        )
    if not now.commit:
        yield rules.RULES_UNCOMMITTED.finding(f"the rules of {environment} are not committed")


def _weaker(now: Rules, before: Rules) -> Iterator[str]:
    """What the rules demanded before and do not demand now, in words."""
    was, now_is = _plain(before.demands), _plain(now.demands)
    for name, value in was.items():
        other = now_is.get(name)
        if name in _WEAKER_IF_ON or name in _WEAKER_IF_MORE:
            more = set(other or ()) - set(value) if name in _WEAKER_IF_MORE else set()
            if (name in _WEAKER_IF_ON and other and not value) or more:
                yield f"{name} = {other}"
        elif name in _WHO:
            if value and (not other or set(other) - set(value)):
                yield f"{name} was {value}, is {other or 'anybody'}"
        elif isinstance(value, bool | int | float):
            if (other or 0) < value:
                yield f"{name} was {value}, is {other or 0}"
        elif isinstance(value, list) and set(map(str, value)) - set(map(str, other or ())):
            gone = sorted(set(map(str, value)) - set(map(str, other or ())))
            yield f"{name} lacks {', '.join(gone)}"


_WEAKER_IF_ON = frozenset({"authors_may_approve", "exception_skips_route"})
_WEAKER_IF_MORE = frozenset({"exception"})
_WHO = frozenset({"by", "bundle_by"})


def _plain(demands: Mapping[str, Any]) -> dict[str, Any]:
    """Conditions as JSON has them: lists in place of tuples."""
    plain: dict[str, Any] = json.loads(json.dumps(dict(demands)))
    return plain
