"""Parameters: every value in every environment, who uses it, and what is live with it."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from inchworm.application.workplace import Workplace
from inchworm.core.errors import InchwormError, UsageError, did_you_mean
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.matrix import Parameter, Values, evaluate
from inchworm.core.promotion.states import State
from inchworm.project.parameters import set_value

EVERY = "every"
"""Stands for all environments where one can be named."""


class MatrixView(Struct, frozen=True):
    """The matrix of the source tree, with all its values.

    Attributes:
        environments: their names, in the order of the route.
        values: the values of each environment, with what is wrong with them.
    """

    assembly: Assembly
    environments: Sequence[str]
    values: dict[str, Values]

    def environment(self, name: str) -> str:
        """An environment's own spelling of its name.

        Raises:
            UsageError: when there is none; with the nearest name.
        """
        for known in self.environments:
            if known.lower() == name.lower():
                return known
        near = did_you_mean(name, self.environments, f"Known: {', '.join(self.environments)}.")
        raise UsageError(f"There is no environment {name}.", next=near)

    def parameter(self, name: str) -> Parameter:
        """A parameter by name; case does not count.

        Raises:
            UsageError: when there is none; with the nearest name.
        """
        for known, parameter in self.assembly.matrix.items():
            if known.lower() == name.lower():
                return parameter
        near = did_you_mean(name, self.assembly.matrix, "See inchworm params.")
        raise UsageError(f"There is no parameter {name}.", next=near)

    def text(self, parameter: Parameter, environment: str) -> str | None:
        """A value as it is shown; None where there is none that could be."""
        value = self.values[environment].values.get(parameter.name)
        return None if value is None or value.plain is None else value.text

    def differs(self, parameter: Parameter, environments: Sequence[str]) -> bool:
        """Whether a parameter has different values in some environments."""
        return len({self.text(parameter, environment) for environment in environments}) > 1

    def uses(self, parameter: Parameter) -> list[tuple[str, str]]:
        """The parts that use a parameter, and where."""
        used = [
            (str(part), f"{use.file}:{use.line}" if use.line else use.file)
            for part, outline in self.assembly.outlines.items()
            for use in outline.uses
            if use.parameter == parameter.name
        ]
        used += [
            ("environment", f"{use.file}:{use.line}")
            for use in self.assembly.environment_uses
            if use.parameter == parameter.name
        ]
        return used


class LiveValue(Struct, frozen=True):
    """The value that parts are live with, and the bundle and time that brought it."""

    value: str
    bundle: str
    since: str


Live = LiveValue | str | None
"""A live value; in words why it cannot be said; or nothing."""


def view_matrix(workplace: Workplace) -> MatrixView:
    """The matrix of the source tree as it is."""
    assembly = workplace.read_remembered().assembly
    names = [environment.name for environment in workplace.project.environments]
    values = {name: evaluate(assembly.matrix, name, workplace.today) for name in names}
    return MatrixView(assembly, names, values)


def set_parameter(
    workplace: Workplace, name: str, environment: str, value: str
) -> tuple[Parameter, str]:
    """Write a value into the file that declares it.

    Returns:
        The parameter, and the environment as it is spelled.

    Raises:
        UsageError: when there is no such parameter or environment, or the value does not fit.
    """
    matrix = view_matrix(workplace)
    parameter = matrix.parameter(name)
    where = environment if environment == EVERY else matrix.environment(environment)
    set_value(workplace.root, parameter, where, value, workplace.today)
    return parameter, where


def live_value(workplace: Workplace, environment: str, parameter: Parameter) -> Live:
    """The value of a parameter that parts are live with in an environment."""
    if not workplace.machine.trust.is_given:
        return "this project is not trusted, so no environment was asked: inchworm trust"
    declared = workplace.project.environment(environment)
    try:
        with workplace.opened(declared) as place:
            parts = place.bookkeeping.parts_of_ours()
    except InchwormError as error:
        return error.what
    using = [part for part in parts if parameter.name in part.values]
    if not using:
        return None
    value = using[0].values[parameter.name]
    bundle, since = using[0].bundle, using[0].put_at
    for promotion in workplace.ledger.promotions():
        draft = promotion.draft
        if draft.environment != declared.name or promotion.state is not State.DONE:
            continue
        if draft.values.get(parameter.name) != value:
            bundle = ""
        elif not bundle or promotion.changed_at < since:
            bundle, since = draft.bundle, promotion.changed_at
    return LiveValue(value, bundle or using[0].bundle, since)
