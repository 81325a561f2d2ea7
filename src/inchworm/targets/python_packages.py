"""The Python packages of an environment in which notebooks run."""

from __future__ import annotations

import pkgutil
import sys
from collections.abc import Mapping

from msgspec import Struct


class Installed(Struct, frozen=True, kw_only=True):
    """What is installed.

    Attributes:
        where: in words.
        packages: the version of each package, by its normalised name.
        markers: the environment, by the names that PEP 508 gives its properties.
        modules: the names of the top-level modules that can be imported.
    """

    where: str
    packages: Mapping[str, str]
    markers: Mapping[str, str]
    modules: frozenset[str]


def packages_here() -> Installed:
    """What is installed in the environment of this process, whose Python kernels run."""
    from packaging.markers import default_environment

    return Installed(
        where="the Python in which runs are started",
        packages=installed_packages(),
        markers={key: str(value) for key, value in default_environment().items()},
        modules=frozenset(
            {
                *(module.name for module in pkgutil.iter_modules()),
                *sys.builtin_module_names,
                *sys.stdlib_module_names,
            }
        ),
    )


def installed_packages() -> dict[str, str]:
    """The version of each package that can be imported, by its normalised name."""
    from importlib.metadata import distributions

    from packaging.utils import canonicalize_name

    versions: dict[str, str] = {}
    for distribution in distributions():
        name = distribution.metadata["Name"]
        if name:  # what is left of a broken installation has none
            versions.setdefault(canonicalize_name(name), distribution.version)
    return versions
