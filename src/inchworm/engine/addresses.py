"""Addresses and secrets of an environment, with its own values in them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from contextlib import closing

from msgspec.structs import replace

from inchworm.core.environments.environment import Environment
from inchworm.core.errors import ProjectError, did_you_mean
from inchworm.core.parameters.matrix import references, substitute
from inchworm.core.parameters.values import Type, Value
from inchworm.core.promotion.promotion import UsedSecret
from inchworm.targets.machine import Machine
from inchworm.targets.secret import Secret
from inchworm.targets.secrets import Secrets


def check_secrets(
    environment: Environment, values: Mapping[str, Value], used: Iterable[str], machine: Machine
) -> tuple[UsedSecret, ...]:
    """Resolve every secret that is going to be used, and forget it again.

    Raises:
        TargetError: when one is missing or has expired.
    """
    with closing(Secrets(machine, environment.secret_store)) as secrets:
        return tuple(
            replace(each, version=secrets.resolve(each.reference, "").version)
            for each in unchecked_secrets(values, set(used))
        )


def unchecked_secrets(values: Mapping[str, Value], names: Iterable[str]) -> tuple[UsedSecret, ...]:
    """Secrets that a service resolves itself: it may be able to, where this machine is not."""
    return tuple(
        UsedSecret(name=name, reference=value.text)
        for name in sorted(names)
        if (value := values.get(name)) is not None
        and value.type is Type.SECRET
        and value.plain is not None
    )


def secrets_of(environment: Environment) -> list[str]:
    """The secret parameters that the environment's own targets ask for."""
    services = environment.services.values()
    asked = (environment.database.password, *(address.token for address in services))
    return [name for text in asked if text is not None for name in references(text)]


def filled(text: str, environment: Environment, values: Mapping[str, Value]) -> str:
    """A text of an environment file, with the values of the parameters in it.

    Raises:
        ProjectError: when the environment lacks a value.
    """
    for name in references(text):
        if name not in values:
            raise ProjectError(
                f"{environment.name} has no value for {name}.",
                where=environment.file,
                next=did_you_mean(name, values, "Declare it in parameters.toml."),
            )
        if values[name].type is Type.SECRET:
            raise ProjectError(
                f"the secret {name} is part of an address, which is shown in logs.",
                where=environment.file,
                next="Give it as password = ... or token = ... instead.",
            )
    return str(substitute(text, values))


def secret_of(
    text: str | None,
    to: str,
    environment: Environment,
    machine: Machine,
    values: Mapping[str, Value],
) -> Secret | None:
    """The secret that a setting of an environment file refers to, ``${name}``; None without one.

    Args:
        text: the setting.
        to: the address that will get the secret.
        environment: as its file declares it.
        machine: where the project is.
        values: this environment's values.

    Raises:
        NotAllowed: when the user has not allowed the secret to go there.
        ProjectError: when that is no secret parameter.
        TargetError: when it cannot be had.
    """
    if text is None:
        return None
    names = references(text)
    value = values.get(names[0]) if len(names) == 1 else None
    if value is None or value.type is not Type.SECRET:
        raise ProjectError(
            "a password or token must be a secret parameter.",
            where=environment.file,
            next='Write "${name}" of a parameter with type = "secret".',
        )
    with closing(Secrets(machine, environment.secret_store)) as secrets:
        return secrets.resolve(value.text, to)
