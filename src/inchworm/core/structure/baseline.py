"""Whether what a database has is what a baseline would make, both in the database's own words."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from inchworm.core.structure.definitions import HANGING, Definition, Thing
from inchworm.core.structure.shape_reading import shape_of
from inchworm.core.structure.shapes import ColumnShape, TableShape

_CONSTRAINT_NAME = re.compile(r'(ADD CONSTRAINT )("(?:[^"]|"")*"|\S+) ')
_INDEX_NAME = re.compile(
    r'(INDEX (?:IF NOT EXISTS )?)("(?:[^"]|"")*"|[^\s"]+)(\."(?:[^"]|"")*")? ON ', re.IGNORECASE
)


def baseline_differences(
    baseline: Sequence[Definition], live: Sequence[Definition], dialect: str
) -> list[str]:
    """In words, what is otherwise with the tables that a baseline makes.

    Tables that the baseline does not know do not count, nor do comments, nor the names of
    constraints and indexes: what they demand is compared.

    Args:
        baseline: the definitions that the baseline makes.
        live: what the schema has.
        dialect: of the database.
    """
    return list(_differences(baseline, live, dialect))


def _differences(
    baseline: Sequence[Definition], live: Sequence[Definition], dialect: str
) -> Iterator[str]:
    live_by_key = {d.key: d for d in live}
    tables = {d.name for d in baseline if d.thing is Thing.TABLE}
    missing: set[str] = set()
    for definition in baseline:
        other = live_by_key.get(definition.key)
        if definition.thing in HANGING:
            continue
        if other is None:
            missing.add(definition.name)
            yield f"{definition.name} is not there"
        elif other.sql != definition.sql:
            yield from _changed(definition, other, dialect)
    for thing in (Thing.CONSTRAINT, Thing.INDEX):
        yield from _hanging(thing, baseline, live, tables, missing)


def _changed(baseline: Definition, live: Definition, dialect: str) -> Iterator[str]:
    """How something that is there differs from what the baseline makes."""
    if baseline.thing is Thing.TABLE:
        shapes = [d.shape or shape_of(d.sql, dialect) for d in (baseline, live)]
        if shapes[0] is not None and shapes[1] is not None:
            yield from _table(baseline.name, shapes[0], shapes[1])
            return
    yield f"{baseline.name} has {_one_line(live.sql)}, not {_one_line(baseline.sql)}"


def _table(name: str, baseline: TableShape, live: TableShape) -> Iterator[str]:
    lacking = [c for c in baseline.by_name if c not in live.by_name]
    if lacking:
        yield f"{name} lacks {', '.join(lacking)}"
    extra = [c for c in live.by_name if c not in baseline.by_name]
    if extra:
        yield f"{name} has {', '.join(extra)}, too"
    for column in baseline.columns:
        other = live.by_name.get(column.name)
        if other is not None:
            yield from (
                f"{name} has {column.name} {difference}" for difference in _column(column, other)
            )
    demands, has = Counter(baseline.constraints.values()), Counter(live.constraints.values())
    yield from (f"{name} lacks {text}" for text in demands - has)
    yield from (f"{name} has {text}, too" for text in has - demands)
    if baseline.options != live.options:
        yield f"{name} has the options {live.options or 'none'}, not {baseline.options or 'none'}"


def _column(baseline: ColumnShape, live: ColumnShape) -> Iterator[str]:
    if live.type != baseline.type:
        yield f"as {live.type}, not {baseline.type}"
    if live.required is not baseline.required:
        yield "required" if live.required else "not required"
    for what, one, other in (
        ("default", baseline.default, live.default),
        ("expression", baseline.generated, live.generated),
        ("identity", baseline.identity, live.identity),
        ("constraint", baseline.rest, live.rest),
    ):
        if (one or "") != (other or ""):
            yield f"with {what} {other or 'none'}, not {one or 'none'}"


def _hanging(
    thing: Thing,
    baseline: Sequence[Definition],
    live: Sequence[Definition],
    tables: set[str],
    missing: set[str],
) -> Iterator[str]:
    """Foreign keys and indexes of the baseline's tables, whatever they are called."""
    demands, has = _demands(thing, baseline), _demands(thing, live)
    for text, definition in demands.items():
        if text not in has and missing.isdisjoint(definition.needs or ()):
            yield f"{_table_of(definition)} lacks {text}"
    for text, definition in has.items():
        if text not in demands and _table_of(definition) in tables:
            yield f"{_table_of(definition)} has {text}, too"


def _demands(thing: Thing, definitions: Sequence[Definition]) -> Mapping[str, Definition]:
    return {_nameless(d.sql): d for d in definitions if d.thing is thing}


def _nameless(sql: str) -> str:
    text = _CONSTRAINT_NAME.sub(r"\1", _one_line(sql))
    return _INDEX_NAME.sub(r"\1ON ", text, count=1)


def _table_of(definition: Definition) -> str:
    """The table that a foreign key or an index is on, as far as the database tells it."""
    if definition.needs:
        return definition.needs[0]
    on = re.search(r"\bON\s+([^\s(]+)", definition.sql, re.IGNORECASE)
    schema = definition.schema
    name = on.group(1).replace('"', "") if on else definition.name
    return name if "." in name else f"{schema}.{name}"


def _one_line(sql: str) -> str:
    return " ".join(sql.split())
