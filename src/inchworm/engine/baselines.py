"""Proving a baseline: the database itself says what it would make, and what is there."""

from __future__ import annotations

from collections.abc import Iterable

from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.errors import InchwormError
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.promotion.composition import Composition
from inchworm.core.rendered import RenderedParts
from inchworm.core.structure.baseline import baseline_differences
from inchworm.engine.desired_schema import made_by, own_definitions
from inchworm.engine.open_environment import OpenEnvironment


def prove_baselines(
    place: OpenEnvironment,
    assembly: Assembly,
    names: PhysicalNames,
    rendered: RenderedParts,
    live: Composition,
    schemas: Iterable[PartId],
) -> dict[PartId, tuple[str, ...]]:
    """For each of some schemas, how it differs from what its baseline would make, in words.

    Args:
        place: the environment.
        assembly: the bundle's parts.
        names: the physical names of the environment.
        rendered: the parts as they are rendered for it.
        live: its composition.
        schemas: those that may have their baseline already.
    """
    others = place.of_others([*live.parts.values(), *live.foreign_parts])
    differing: dict[PartId, tuple[str, ...]] = {}
    for part in schemas:
        physical = names.schema(part.name)
        baseline = next((s for s in rendered.schema(part).migrations if s.baseline), None)
        if baseline is None:
            continue
        try:
            baseline_definitions = made_by(
                place.database, assembly.dialect, names, part, baseline.sql
            )
            live_definitions = own_definitions(place.database, physical, others)
            differing[part] = tuple(
                baseline_differences(baseline_definitions, live_definitions, place.database.dialect)
            )
        except InchwormError as error:
            message = error.what.partition(" says: ")[2] or error.what
            differing[part] = (f"the baseline cannot be tried here: {message}",)
    return differing
