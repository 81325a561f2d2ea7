"""Which migrations an environment's database still needs, and which it has behind it unrecorded.

Two kinds of migration may be *assumed* rather than run, and never because somebody said so: a
baseline where everything that it makes is there, as the database itself tells; and one that takes
up what was changed by hand, where that very change is there.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from difflib import unified_diff

from msgspec import Struct

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.environments.environment import DatabaseAddress
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parts import digest_of
from inchworm.core.promotion.composition import Composition
from inchworm.core.rendered import RenderedParts, Script, When
from inchworm.core.structure.definitions import Difference


class Pending(Struct, frozen=True, kw_only=True):
    """A migration that the database does not have behind it.

    Attributes:
        takes_up: what was changed by hand, and is the migration's doing from now on.
    """

    schema: PartId
    name: str
    when: When
    assumed: bool
    takes_up: frozenset[str] = frozenset()


def pending_migrations(
    assembly: Assembly,
    rendered: RenderedParts,
    live: Composition,
    address: DatabaseAddress,
    baselines: Mapping[PartId, Sequence[str]],
    *,
    goes_back: bool = False,
) -> tuple[list[Pending], list[Finding]]:
    """The migrations to run or to assume, in order, and what is wrong with them here.

    Args:
        assembly: the bundle's parts.
        rendered: the same, as they are put into the environment.
        live: what the environment has.
        address: of its database.
        baselines: of schemas that have tables and no migration behind them, what is otherwise than
            the baseline would make it, in words.
        goes_back: whether what ran and is not in the bundle is looked after by a rollback.
    """
    looking = _Looking(live, address, baselines)
    pending: list[Pending] = []
    for schema in assembly.of_kind(Kind.SCHEMA):
        recorded = live.parts.get(schema)
        if recorded is not None and recorded.digest == rendered.digest(schema):
            continue  # it was recorded when all of these had run
        ran = {m.name: m for m in live.migrations if m.schema == schema.name}
        scripts = rendered.schema(schema).migrations
        gone = sorted(ran.keys() - {script.name for script in scripts})
        if gone and not goes_back:
            message = f"{', '.join(gone)} ran here, and {_is_or_are(gone)} not in the bundle"
            looking.findings.append(rules.RAN_BUT_NOT_HERE.finding(message, part=schema))
        for script in scripts:
            before = ran.get(script.name)
            if before is None:
                pending.append(looking.pending(schema, script, is_first=not ran))
            elif before.checksum != script.checksum:
                looking.findings.append(
                    rules.MIGRATION_EDITED.finding(
                        f"{script.name} ran here on {before.ran_at[:10]} with other text"
                        + _both_texts(before.script, script.sql),
                        part=schema,
                        file=script.file,
                    )
                )
    return pending, looking.findings


def _is_or_are(names: Sequence[str]) -> str:
    return "is" if len(names) == 1 else "are"


def change_by_hand(difference: Difference, physical: str, schema: str) -> tuple[str, str]:
    """A change made by hand as a migration names it: what it is about, and a digest of what is.

    Args:
        difference: as it was found in a database.
        physical: the schema's name there.
        schema: its name in the project.
    """
    key = difference.key.replace(f" {physical}.", f" {schema}.", 1)
    return key, str(digest_of(difference.now.replace(f"{physical}.", f"{schema}.").encode()))


class _Looking:
    def __init__(
        self,
        live: Composition,
        address: DatabaseAddress,
        baselines: Mapping[PartId, Sequence[str]],
    ) -> None:
        self.live = live
        self.address = address
        self.baselines = baselines
        self.findings: list[Finding] = []

    def pending(self, schema: PartId, script: Script, *, is_first: bool) -> Pending:
        """A migration that has not run, with whether it has to."""
        assumed = False
        takes_up: frozenset[str] = frozenset()
        if script.baseline:
            assumed = is_first and self._is_there(schema, script)
        elif script.takes_up:
            takes_up = self._by_hand(schema, script)
            assumed = bool(takes_up)
        return Pending(
            schema=schema,
            name=script.name,
            when=script.when,
            assumed=assumed,
            takes_up=takes_up,
        )

    def _by_hand(self, schema: PartId, script: Script) -> frozenset[str]:
        """The names of what was changed by hand, if all of it is as the migration has it.

        If only some is there, or otherwise, that is a finding.
        """
        physical = self.address.physical_schema(schema.name)
        live = {
            key: (digest, difference.key)
            for difference in self.live.differences
            if difference.name.startswith(f"{physical}.")
            for key, digest in [change_by_hand(difference, physical, schema.name)]
        }
        desired = script.takes_up
        same = [key for key in desired if key in live and live[key][0] == desired[key]]
        if len(same) == len(desired):
            return frozenset(live[key][1] for key in same)
        for key in sorted(set(desired) & live.keys()):
            self.findings.append(
                rules.BASELINE_DIFFERS.finding(
                    f"{script.name} takes up a change of {key} that was made by hand; here it "
                    "was changed otherwise, or only in part",
                    part=schema,
                    file=script.file,
                )
            )
        return frozenset()

    def _is_there(self, schema: PartId, script: Script) -> bool:
        """Whether a baseline need not run, because what it makes is there.

        A schema that has tables, but otherwise, is a finding.
        """
        physical = self.address.physical_schema(schema.name)
        if not any(table.schema == physical for table in self.live.tables.values()):
            return False
        for wrong in self.baselines.get(schema, ("it has not been compared with what is there",)):
            self.findings.append(
                rules.BASELINE_DIFFERS.finding(
                    f"the schema has tables, but {wrong}", part=schema, file=script.file
                )
            )
        return True


def _both_texts(ran: str, now: str) -> str:
    """The lines that differ, with - for the text that ran and + for the present one."""
    lines = unified_diff(ran.splitlines(), now.splitlines(), "ran", "now", lineterm="", n=1)
    return "".join(f"\n{line}" for line in lines if not line.startswith("@@")) if ran else ""
