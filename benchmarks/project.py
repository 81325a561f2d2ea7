"""A generated project of many models, like those that grow over years."""

from __future__ import annotations

import json
import random
from pathlib import Path

COLUMNS = 20
LAYERS = 30


def write_project(folder: Path, models: int, seed: int = 7) -> list[Path]:
    """Write a project; returns the paths of its models.

    Models stand in layers; each reads one to six models of layers below, and joins, filters, groups
    or stacks them in one of several shapes. All show ``COLUMNS`` columns.
    """
    generator = random.Random(seed)
    (folder / "environments").mkdir(parents=True)
    (folder / "schemas/raw").mkdir(parents=True)
    (folder / "inchworm.toml").write_text('name = "bench"\nversion = "1.0.0"\n')
    (folder / "environments/dev.toml").write_text(
        'snapshots = true\n[databases.main]\nurl = "duckdb:///.inchworm/dev.duckdb"\n'
        '[workspace]\nurl = "sim:dev"\n[gateway]\nurl = "sim:dev"\n'
    )
    (folder / "schemas/raw/schema.toml").write_text('managed = "outside"\n')
    columns = [f"c{i}" for i in range(COLUMNS)]
    declared = ",\n".join(f"  {name} INTEGER" for name in columns)
    tables = "\n".join(f"CREATE TABLE raw.t{i} (\n{declared}\n);" for i in range(50))
    (folder / "schemas/raw/tables.sql").write_text(tables)
    names = [f"raw.t{i}" for i in range(50)]
    paths = []
    per_layer = max(1, models // LAYERS)
    below = list(names)
    for number in range(models):
        if number % per_layer == 0:
            below = list(names[-8 * per_layer :])
        name = f"layer{number // per_layer}.m{number}"
        schema, _, table = name.partition(".")
        path = folder / "models" / schema / f"{table}.sql"
        path.parent.mkdir(parents=True, exist_ok=True)
        sql = _sql(generator, columns, generator.sample(below, generator.randint(1, 6)))
        store = "view" if generator.random() < 0.2 else "table"
        path.write_text(f'/*---\nstore = "{store}"\n---*/\n{sql}')
        names.append(name)
        paths.append(path)
    _write_readers(folder, [p for p in paths if p.parent.name.startswith("layer")], generator)
    return paths


def _write_readers(folder: Path, models: list[Path], generator: random.Random) -> None:
    """Notebooks, pipelines, flows and consumers on top of the models: one for every 200 or so."""
    for name in ("notebooks", "pipelines", "flows", "connections", "consumers", "apis"):
        (folder / name).mkdir()
    (folder / "connections/board.toml").write_text('kind = "http"\nurl = "${board_url}"\n')
    (folder / "parameters.toml").write_text(
        '[board_url]\ntype = "text"\ndev = "http://127.0.0.1:9/board"\n'
    )
    (folder / "apis/board.json").write_text(json.dumps(_API))
    for number in range(max(1, len(models) // 200)):
        tables = [f"{m.parent.name}.{m.stem}" for m in generator.sample(models, 8)]
        code = "from inchworm.notebook import env\n" + "\n".join(
            f'd{i} = env.query("SELECT c0, c1, avg(c2) AS m FROM {table} GROUP BY c0, c1")'
            for i, table in enumerate(tables)
        )
        (folder / f"notebooks/n{number}.ipynb").write_text(json.dumps(_notebook(code)))
        steps = "".join(
            f'[[steps]]\nname = "s{i}"\nbuild = ["{table}"]\nafter = {[f"s{i - 1}"] if i else []}\n'
            for i, table in enumerate(sorted(tables, key=_layer))
        )
        (folder / f"pipelines/p{number}.toml").write_text(
            f'about = "b"\n[schedules.nightly]\ncron = "15 2 * * *"\n{steps}'
        )
        (folder / f"flows/f{number}.toml").write_text(
            f'direction = "out"\n[from]\ntable = "{tables[0]}"\n[to]\nconnection = "board"\n'
            'api = "apis/board.json"\noperation = "put"\n[fields]\nid = "c0"\nvalue = "c1"\n'
        )
        (folder / f"consumers/k{number}.toml").write_text(
            f'about = "c"\ncontact = "someone"\n[reads]\n"{tables[1]}" = ["c0", "c3"]\n'
        )


def _layer(table: str) -> int:
    return int(table.partition(".")[0].removeprefix("layer"))


def _notebook(code: str) -> dict[str, object]:
    cell: dict[str, object] = {
        "cell_type": "code",
        "id": "a",
        "execution_count": None,
        "metadata": {},
        "outputs": [],
        "source": code,
    }
    return {"nbformat": 4, "nbformat_minor": 5, "metadata": {}, "cells": [cell]}


_API = {
    "openapi": "3.0.3",
    "info": {"title": "Board", "version": "1"},
    "paths": {
        "/values": {
            "post": {
                "operationId": "put",
                "requestBody": {
                    "content": {
                        "application/json": {
                            "schema": {
                                "type": "object",
                                "properties": {
                                    "id": {"type": "integer"},
                                    "value": {"type": "number"},
                                },
                            }
                        }
                    }
                },
                "responses": {"200": {"description": "taken"}},
            }
        }
    },
}


def _sql(generator: random.Random, columns: list[str], read: list[str]) -> str:
    first, *others = read
    shape = generator.choice(["star", "cte", "group", "window", "union"])
    joins = "\n".join(
        f"LEFT JOIN {table} AS j{i} ON j{i}.c0 = base.c0" for i, table in enumerate(others)
    )
    picked = [f"j{generator.randrange(len(others))}" if others else "base" for _ in columns[4:]]
    mixed = ",\n  ".join(
        f"coalesce({alias}.{name}, base.{name}) AS {name}"
        for alias, name in zip(picked, columns[4:], strict=True)
    )
    head = ", ".join(f"base.{name}" for name in columns[:4])
    body = f"SELECT\n  {head},\n  {mixed}\nFROM {first} AS base\n{joins}\nWHERE base.c1 > 0"
    match shape:
        case "star" if not others:
            return f"SELECT *\nFROM {first}\nWHERE c1 > 0\n"
        case "cte":
            return f"WITH picked AS (\n{body}\n)\nSELECT * FROM picked\n"
        case "group":
            sums = ",\n  ".join(f"sum({name}) AS {name}" for name in columns[1:])
            return f"SELECT c0,\n  {sums}\nFROM (\n{body}\n) AS picked\nGROUP BY c0\n"
        case "window":
            rest = ", ".join(columns[1:])
            rank = "row_number() OVER (PARTITION BY c1 ORDER BY c2)"
            return f"SELECT {rank} AS c0, {rest}\nFROM (\n{body}\n) AS picked\n"
        case "union":
            return f"{body}\nUNION ALL\nSELECT {', '.join(columns)} FROM {first}\n"
    return body + "\n"
