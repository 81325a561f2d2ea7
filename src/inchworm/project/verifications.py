"""Findings about what environments and parts have asked once a promotion is there."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.environments.environment import Environment
from inchworm.core.environments.verification import Asked, Verification
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.lineage.facts import Assembly
from inchworm.core.running.planning import subject_of


def verification_findings(
    environments: Iterable[Environment],
    assembly: Assembly,
) -> Iterator[Finding]:
    """Queries that cannot be read; tables, parameters and parts that are not there.

    Args:
        environments: all environments.
        assembly: all parts of the project.
    """
    asking = [
        *((each.file, each.verifications) for each in environments),
        *((each.file, each.verifications) for each in assembly.outlines.values()),
    ]
    for file, verifications in asking:
        for each in verifications:
            yield from _about(file, each, assembly)


def _about(file: str, asked: Verification, assembly: Assembly) -> Iterator[Finding]:
    if asked.asked is Asked.QUERY:
        yield from _about_query(file, asked, assembly)
    elif asked.asked is Asked.VALUE and asked.question not in assembly.matrix:
        near = did_you_mean(asked.question, assembly.matrix, "See inchworm params.")
        yield _wrong(file, asked, f"there is no parameter {asked.question}", near)
    elif asked.asked is Asked.RUN:
        try:
            subject_of(asked.question, assembly)
        except UsageError as error:
            what = error.what[0].lower() + error.what[1:].rstrip(".")
            yield _wrong(file, asked, what, error.next or "")


def _about_query(file: str, asked: Verification, assembly: Assembly) -> Iterator[Finding]:
    from inchworm.core.sql.columns import tables_in  # the parser, only where it is needed
    from inchworm.core.sql.only_reads import check_only_reads
    from inchworm.core.sql.parse import parse_query
    from inchworm.core.sql.problems import SqlProblem

    try:
        query = parse_query(asked.question, assembly.dialect)
        check_only_reads(query, asked.question)
    except SqlProblem as problem:
        yield _wrong(file, asked, problem.reason, "Correct the query.")
        return
    for name in tables_in(query, assembly.dialect):
        if name not in assembly.tables:
            yield _wrong(file, asked, f"there is no table {name}", "Correct the name.")


def _wrong(file: str, asked: Verification, what: str, remedy: str) -> Finding:
    return rules.MALFORMED.finding(f"[[verify]] {asked.name}: {what}", file=file, remedy=remedy)
