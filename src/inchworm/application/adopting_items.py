"""Adopting what somebody changed in a workspace or gateway by hand: a part of the source again."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.application.parameters import set_parameter
from inchworm.application.running import prepare_live
from inchworm.application.workplace import Workplace
from inchworm.core.environments.items import (
    ABSENT,
    Leaf,
    NewValue,
    leaf_at,
    turned_back,
    with_leaf,
)
from inchworm.core.errors import ProjectError, UsageError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parameters.values import Type, Value
from inchworm.engine.item_changes import item_changes
from inchworm.safe_files import write_below

_OF_TOML = frozenset({Kind.CONNECTION, Kind.FLOW, Kind.PIPELINE})


class AdoptedItem(Struct, frozen=True, kw_only=True):
    """What was taken into the source.

    Attributes:
        file: the part's file, relative to the project.
        leaves: what was written there, with values turned back into references.
        values: parameters whose value in the environment was written instead.
        left_out: what was changed and cannot be written back, each with the reason.
    """

    part: PartId
    environment: str
    file: str
    leaves: tuple[str, ...] = ()
    values: Mapping[str, str] = field(default_factory=dict)
    left_out: tuple[tuple[str, str], ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether nothing was changed by hand."""
        return not (self.leaves or self.values or self.left_out)


def adopt_item(workplace: Workplace, environment: str, part: PartId) -> AdoptedItem:
    """Write what somebody changed in an item by hand back into the source.

    Values of the environment become references to their parameters again. Where all of a setting
    is a parameter, its value in that environment changes.

    Raises:
        UsageError: when the part is not of a kind that can be written back, or does not run there.
        ProjectError: when its file cannot be changed.
        TargetError: when the environment cannot be read.
    """
    prepared = prepare_live(workplace, environment)
    name, assembly = prepared.environment.name, prepared.reading.assembly
    if part not in assembly.parts:
        raise UsageError(f"{part} does not run in {name}.", next=f"See inchworm drift {name}.")
    file = assembly.parts[part].main.path
    changes = item_changes(prepared, workplace.machine, [part]).get(part)
    if changes is None:
        raise UsageError(
            f"{part} was removed in {name} by hand.",
            next="To take that into the source, delete its file; else promote, and it is there "
            "again.",
        )
    if part.kind is Kind.NOTEBOOK:
        put: Mapping[str, Any] = prepared.rendered[part].document
        adopted = AdoptedItem(part=part, environment=name, file=file)
        return _write_cells(workplace, adopted, changes, put["notebook"]["cells"])
    if part.kind not in _OF_TOML:
        raise UsageError(
            f"A {part.kind.value} cannot be written back.",
            next=f"Take what was changed over by hand: inchworm drift {name} shows it.",
        )
    used = {use.parameter for use in assembly.outlines[part].uses}
    values = {n: prepared.values[n] for n in used if n in prepared.values}
    return _write(workplace, AdoptedItem(part=part, environment=name, file=file), changes, values)


def _write(
    workplace: Workplace,
    adopted: AdoptedItem,
    changes: list[Leaf],
    values: Mapping[str, Value],
) -> AdoptedItem:
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    path: Path = workplace.root / adopted.file
    leaves: list[str] = []
    new_values: dict[str, str] = {}
    left_out: list[tuple[str, str]] = []
    try:
        document: Any = tomlkit.parse(path.read_bytes().decode("utf-8"))
        for leaf in changes:
            source = leaf_at(document, leaf.path)
            if leaf.path[0] in _MADE:
                left_out.append((leaf.dotted, _MADE[leaf.path[0]]))
                continue
            if leaf.path == ("from", "query"):
                left_out.append(
                    (leaf.dotted, "it is written in the project's SQL: change it there")
                )
                continue
            back = ABSENT if leaf.now is ABSENT else turned_back(source, leaf.now, values)
            if not isinstance(back, NewValue):
                _put(document, leaf, back)
                leaves.append(leaf.dotted)
            elif values[back.parameter].type is Type.SECRET:
                left_out.append((leaf.dotted, "it is a secret: only where it is kept is written"))
            else:
                new_values[back.parameter] = str(back.value)
        if leaves:
            text = tomlkit.dumps(document)
            write_below(workplace.root, adopted.file, text.encode("utf-8"))
    except (OSError, TOMLKitError, KeyError, IndexError) as error:
        raise ProjectError(
            f"cannot be changed: {error}", where=adopted.file, next="Change it by hand."
        ) from error
    for name, value in new_values.items():
        set_parameter(workplace, name, adopted.environment, value)
    return AdoptedItem(
        part=adopted.part,
        environment=adopted.environment,
        file=adopted.file,
        leaves=tuple(leaves),
        values=new_values,
        left_out=tuple(left_out),
    )


def _write_cells(
    workplace: Workplace, adopted: AdoptedItem, changes: list[Leaf], was: list[Any]
) -> AdoptedItem:
    """Write the cells of a notebook, as they are there, into its file.

    Args:
        workplace: the workplace.
        adopted: the notebook, with nothing adopted of it.
        changes: what differs from what was put there.
        was: the cells that were put there.
    """
    from inchworm.kinds.notebook_cells import with_changed_cells

    of_cells = [leaf for leaf in changes if leaf.path[:2] == _CELLS]
    left_out = [(leaf.dotted, _NOT_A_CELL) for leaf in changes if leaf.path[:2] != _CELLS]
    now = was
    for leaf in of_cells:
        now = leaf.now if leaf.path == _CELLS else with_leaf(now, leaf.path[2:], leaf.now)
    path: Path = workplace.root / adopted.file
    leaves: tuple[str, ...] = ()
    if of_cells:
        try:
            content = with_changed_cells(path.read_bytes(), was, now)
            if content is not None:
                write_below(workplace.root, adopted.file, content)
        except (OSError, ValueError, KeyError) as error:
            raise ProjectError(
                f"cannot be changed: {error}", where=adopted.file, next="Change it by hand."
            ) from error
        if content is None:
            left_out += [(leaf.dotted, _OTHER_CELLS) for leaf in of_cells]
        else:
            leaves = tuple(_cell_named(leaf) for leaf in of_cells)
    return replace(adopted, leaves=leaves, left_out=tuple(left_out))


_CELLS = ("notebook", "cells")
_NOT_A_CELL = "only cells are written back: change it by hand"
_OTHER_CELLS = (
    "the notebook of the source tree has other cells than the one that was promoted: take it over "
    "by hand, from what inchworm drift shows"
)


def _cell_named(leaf: Leaf) -> str:
    """What was changed, with the cell's number from 1: ``cell 2``."""
    return f"cell {int(leaf.path[2]) + 1}" if len(leaf.path) > len(_CELLS) else "cells"


_MADE: Mapping[str | int, str] = {
    "openapi": "it comes from the API document: change that under apis/",
    "tables": "names of tables come from the environment file",
}
"""Leaves of documents that are not in a part's file, each with where they come from."""

_QUERY = "it is written in the project's SQL: change it there"


def _put(document: Any, leaf: Leaf, value: Any) -> None:
    """Write, add or remove one leaf; what is around it keeps its order and comments."""
    *way, last = leaf.path
    for step in way:
        document = document[step]
    if value is ABSENT:
        del document[last]
    else:
        document[last] = value
