"""What the databases of a project's environments do not take: long names, forms of DuckDB."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import TargetError
from inchworm.core.lineage.facts import Assembly
from inchworm.targets.databases.registry import Product, product_of

_SUFFIX = len("__try_12345678")
"""Bytes that the schema needs, in which statements are tried, beside the name of its model."""


def long_names(assembly: Assembly, environments: Iterable[Environment]) -> Iterator[Finding]:
    """Findings about tables and columns whose names an environment's database would cut off."""
    reported: set[str] = set()
    for environment in environments:
        product = _product(environment)
        longest = product.longest_name if product else None
        if longest is None:
            continue
        for part, outline in assembly.outlines.items():
            if outline.managed_outside:
                continue
            for name in outline.interfaces:
                table = assembly.tables[name]
                physical = environment.database.physical_table(name)
                names = [(physical.schema, longest - _SUFFIX), (physical.table, longest)]
                names += [(column.name, longest) for column in table.columns]
                for text, limit in names:
                    length = len(text.encode())
                    if length > limit and text not in reported:
                        reported.add(text)
                        yield rules.NAME_TOO_LONG.finding(
                            f"{text} has {length} bytes; in {environment.name} there is room for "
                            f"{limit}",
                            part=part,
                            file=outline.file,
                        )


def unportable_forms(assembly: Assembly, environments: Iterable[Environment]) -> Iterator[Finding]:
    """Findings about forms of queries that an environment's database lacks."""
    by_dialect: dict[str, list[str]] = defaultdict(list)
    for environment in environments:
        product = _product(environment)
        if product is not None:
            by_dialect[product.dialect].append(environment.name)
    for part, outline in assembly.outlines.items():
        for form in outline.unportable:
            for dialect in by_dialect.keys() & set(form.lacking):
                names = ", ".join(by_dialect[dialect])
                yield rules.FORM_UNKNOWN.finding(
                    f"uses {form.form}, which {dialect}, the database of {names}, lacks",
                    part=part,
                    file=form.file,
                    line=form.line,
                )


def _product(environment: Environment) -> Product | None:
    try:
        return product_of(environment.database.url.partition("://")[0])
    except TargetError:
        return None  # said where the database is reached
