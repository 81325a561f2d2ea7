"""A bundle made ready for one environment: read, with its values, its parts rendered."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping
from functools import cached_property
from types import MappingProxyType

from msgspec import Struct, field

from inchworm.core.bundle.bundle import Bundle
from inchworm.core.environments.environment import Environment
from inchworm.core.environments.physical_names import tables_renamed
from inchworm.core.errors import BundleError, ProjectError, UsageError, did_you_mean
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts_cache import FactsCache
from inchworm.core.parameters.matrix import Matrix, evaluate, read_files
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Contents
from inchworm.core.promotion.composition import LivePart
from inchworm.core.rendered import RenderedParts
from inchworm.engine.mixing import MixedContents
from inchworm.kinds.project_reader import Reading, read_project
from inchworm.kinds.recipes import recipe_of
from inchworm.project.dialects import known_dialects

_NO_OTHERS: Mapping[PartId, Bundle | None] = MappingProxyType({})
_NO_VALUES: Mapping[str, Value] = MappingProxyType({})


class Prepared(Struct, frozen=True, kw_only=True, dict=True):
    """A bundle made ready for one environment, with its values.

    It is read when somebody asks for what is in it, and each part is rendered when it is asked for:
    whoever waits for a database meanwhile, waits for less.

    Attributes:
        matrix: the bundle's parameters.
        others: the parts that are as in other bundles, or left out.
        known: facts of the same parts from earlier; brought up to date.
    """

    bundle: Bundle
    environment: Environment
    today: dt.date
    matrix: Matrix
    values: Mapping[str, Value]
    overrides: Mapping[str, str]
    others: Mapping[PartId, Bundle | None] = field(default_factory=dict)
    known: FactsCache | None = None

    @cached_property
    def reading(self) -> Reading:
        """The bundle's parts, with what was worked out about them, which is remembered."""
        reading = read_project(
            name=self.bundle.project,
            version=self.bundle.version,
            dialect=self.bundle.dialect,
            files=_contents(self.bundle, self.others),
            known=self.known,
        )
        if self.known is not None:
            self.known.keep()
        return reading

    @cached_property
    def rendered(self) -> RenderedParts:
        """The parts with the environment's values, each rendered when it is asked for."""
        return rendered_for(self.environment, self.reading, self.values)

    def recall(self, live: Iterable[LivePart]) -> None:
        """Take over the digests of live parts that are rendered from the same things here."""
        for part in live:
            self.rendered.recall(part.part, part.recipe, part.digest)


def prepare(
    bundle: Bundle,
    environment: Environment,
    today: dt.date,
    overrides: Mapping[str, str] | None = None,
    known: FactsCache | None = None,
    others: Mapping[PartId, Bundle | None] = _NO_OTHERS,
    own_values: Mapping[str, Value] = _NO_VALUES,
) -> Prepared:
    """Make a bundle ready for an environment: its values are worked out and checked.

    Args:
        bundle: what is to be promoted.
        environment: where to.
        today: the day that ``today`` means in values.
        overrides: values given for once, as text.
        known: facts of the same parts from earlier; brought up to date.
        others: the parts that are as in other bundles, or left out.
        own_values: of parameters in the environment's file, where the bundle, which may be older
            than the file, does not know them.

    Raises:
        BundleError: when its dialect is not known.
        ProjectError: when the environment lacks a value.
        UsageError: when values are given that cannot be.
    """
    overrides = overrides or {}
    if bundle.dialect not in known_dialects():
        raise BundleError(
            f"{bundle.name} is in a dialect that is not known here: {bundle.dialect}.",
            next="Use the version of Inchworm that packed it, or a newer one.",
        )
    matrix, _ = read_files(_contents(bundle, others), None)
    _check_overrides(environment, matrix, overrides)
    values = evaluate(matrix, environment.name, today, overrides)
    if values.problems and environment.formerly:  # the bundle may be of the time before
        former = evaluate(matrix, environment.formerly, today, overrides)
        values = values if former.problems else former
    if values.problems:
        first = values.problems[0]
        if not _names(matrix, environment.name):
            raise ProjectError(
                f"{bundle.name} has no value for an environment {environment.name}: it was packed "
                "before there was one of that name.",
                where=environment.file,
                next='If the environment had another name then, write formerly = "THAT NAME" in '
                "this file, and try again; else pack a bundle with values for it.",
            )
        raise ProjectError(first.message + ".", where=first.place, next=first.remedy)
    return Prepared(
        bundle=bundle,
        environment=environment,
        today=today,
        matrix=matrix,
        values={**own_values, **values.values},
        overrides=overrides,
        others=others,
        known=known,
    )


def _names(matrix: Matrix, environment: str) -> bool:
    """Whether some parameter has a value for an environment by its name."""
    return any(environment.lower() in map(str.lower, row.cells) for row in matrix.values())


def _contents(bundle: Bundle, others: Mapping[PartId, Bundle | None]) -> Contents:
    """The files of a bundle, with those of parts that are as in other bundles."""
    return MixedContents(bundle, others) if others else bundle.files


def rendered_for(
    environment: Environment, reading: Reading, values: Mapping[str, Value]
) -> RenderedParts:
    """The parts of a version with an environment's values, each rendered when it is asked for."""
    assembly = reading.assembly
    return RenderedParts(
        assembly.parts,
        render=lambda part: reading.render(part, values).placed(
            tables_renamed(part, assembly, environment)
        ),
        recipe=lambda part: recipe_of(
            assembly, part, values, tables_renamed(part, assembly, environment)
        ),
    )


def _check_overrides(
    environment: Environment, matrix: Matrix, overrides: Mapping[str, str]
) -> None:
    if overrides and not environment.overrides:
        raise UsageError(
            f"{environment.name} ({environment.protection}) takes no values for once.",
            where=environment.file,
            next="Change the value in parameters.toml, or say overrides = true in that file.",
        )
    for name in overrides:
        if name not in matrix:
            near = did_you_mean(name, matrix, "See inchworm params.")
            raise UsageError(f"There is no parameter {name}.", next=near)
