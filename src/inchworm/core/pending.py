"""Which migrations an environment's database still needs, and which it has behind it unrecorded.

Two kinds of migration may be *assumed* rather than run, and never because somebody said so: a
baseline where its tables are there, column by column; and one that takes up what was changed by
hand, where that very change is there.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from difflib import unified_diff
from typing import Any

from inchworm.core.checks import rules
from inchworm.core.composition import Composition
from inchworm.core.environments import DatabaseAddress
from inchworm.core.facts import Assembly
from inchworm.core.findings import Finding
from inchworm.core.parts import Kind, PartId, digest_of
from inchworm.core.rendering import Rendered
from inchworm.core.sql.parse import parse_statements
from inchworm.core.structure.definitions import Difference
from inchworm.core.structure.replay import replay
from inchworm.core.structure.tables import UNKNOWN_TYPE, Table


@dataclass(frozen=True, kw_only=True)
class Pending:
    """A migration that the database does not have behind it.

    Attributes:
        takes_up: what was changed by hand, and is the migration's doing from now on.
    """

    schema: PartId
    name: str
    when: str
    assumed: bool
    takes_up: frozenset[str] = frozenset()


def pending_migrations(
    assembly: Assembly,
    rendered: Mapping[PartId, Rendered],
    live: Composition,
    address: DatabaseAddress,
) -> tuple[list[Pending], list[Finding]]:
    """The migrations to run or to assume, in order, and what is wrong with them here."""
    looking = _Looking(assembly, live, address)
    pending: list[Pending] = []
    for schema in assembly.of_kind(Kind.SCHEMA):
        ran = {m.name: m for m in live.migrations if m.schema == schema.name}
        for script in rendered[schema].document.get("migrations", ()):
            before = ran.get(script["name"])
            if before is None:
                pending.append(looking.pending(schema, script, is_first=not ran))
            elif before.checksum != script["checksum"]:
                looking.findings.append(
                    rules.MIGRATION_EDITED.finding(
                        f"{script['name']} ran here on {before.ran_at[:10]} with other text"
                        + _both_texts(before.script, script["sql"]),
                        part=schema,
                        file=script["file"],
                    )
                )
    return pending, looking.findings


def change_by_hand(difference: Difference, real: str, schema: str) -> tuple[str, str]:
    """A change made by hand as a migration names it: what it is about, and a digest of what is.

    Args:
        difference: as it was found in a database.
        real: the schema's name there.
        schema: its name in the project.
    """
    key = difference.key.replace(f" {real}.", f" {schema}.", 1)
    return key, str(digest_of(difference.now.replace(f"{real}.", f"{schema}.").encode()))


class _Looking:
    def __init__(self, assembly: Assembly, live: Composition, address: DatabaseAddress) -> None:
        self.assembly = assembly
        self.live = live
        self.address = address
        self.findings: list[Finding] = []

    def pending(self, schema: PartId, script: Mapping[str, Any], *, is_first: bool) -> Pending:
        """A migration that has not run, with whether it has to."""
        assumed = False
        takes_up: frozenset[str] = frozenset()
        if script["baseline"]:
            assumed = is_first and self._is_there(schema, script)
        elif script.get("takes_up"):
            takes_up = self._by_hand(schema, script)
            assumed = bool(takes_up)
        return Pending(
            schema=schema,
            name=script["name"],
            when=script["when"],
            assumed=assumed,
            takes_up=takes_up,
        )

    def _by_hand(self, schema: PartId, script: Mapping[str, Any]) -> frozenset[str]:
        """The names of what was changed by hand, if all of it is as the migration has it.

        If only some is there, or otherwise, that is a finding.
        """
        real = self.address.real_schema(schema.name)
        there = {
            key: (digest, difference.key)
            for difference in self.live.differences
            if difference.name.startswith(f"{real}.")
            for key, digest in [change_by_hand(difference, real, schema.name)]
        }
        wanted = script["takes_up"]
        same = [key for key in wanted if key in there and there[key][0] == wanted[key]]
        if len(same) == len(wanted):
            return frozenset(there[key][1] for key in same)
        for key in sorted(set(wanted) & there.keys()):
            self.findings.append(
                rules.BASELINE_DIFFERS.finding(
                    f"{script['name']} takes up a change of {key} that was made by hand; here it "
                    "was changed otherwise, or only in part",
                    part=schema,
                    file=script["file"],
                )
            )
        return frozenset()

    def _is_there(self, schema: PartId, script: Mapping[str, Any]) -> bool:
        """Whether a baseline need not run: its tables are there, column by column.

        A schema that has tables, but not those, is a finding.
        """
        real = self.address.real_schema(schema.name)
        live = {n: t for n, t in self.live.tables.items() if t.schema == real}
        if not live:
            return False
        statements = parse_statements(script["sql"], self.assembly.dialect)
        wanted, _ = replay(statements, {}, self.assembly.dialect)
        for table in wanted.values():
            name = self.address.real_table(table.name)
            for wrong in self._wrong(table, live.get(name)):
                self.findings.append(
                    rules.BASELINE_DIFFERS.finding(
                        f"the schema has tables, but {name} {wrong}",
                        part=schema,
                        file=script["file"],
                    )
                )
        return True

    def _wrong(self, wanted: Table, there: Table | None) -> Iterator[str]:
        if there is None:
            yield "is not there"
            return
        missing = [c.name for c in wanted.columns if c.name.lower() not in there.by_name]
        if missing:
            yield f"lacks {', '.join(missing)}"
        for column in wanted.columns if self._speaks_our_dialect else ():
            other = there.by_name.get(column.name.lower())
            if other is None or UNKNOWN_TYPE in (column.type, other.type):
                continue
            if other.type != column.type:
                yield f"has {column.name} as {other.type}, not {column.type}"

    @property
    def _speaks_our_dialect(self) -> bool:
        """Whether types are spelled alike here and in the project."""
        return self.address.url.startswith(self.assembly.dialect)


def _both_texts(ran: str, now: str) -> str:
    """The lines that differ, with - for the text that ran and + for the present one."""
    lines = unified_diff(ran.splitlines(), now.splitlines(), "ran", "now", lineterm="", n=1)
    return "".join(f"\n{line}" for line in lines if not line.startswith("@@")) if ran else ""
