"""Which product an address asks for: a registry by scheme, open to other packages.

A product of another package is an entry point in the group ``inchworm.databases``, named like its
scheme, that leads to a :class:`Product`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache
from importlib import import_module
from pathlib import Path
from types import MappingProxyType

from msgspec import Struct

from inchworm.core.errors import TargetError
from inchworm.safe_files import check_no_link
from inchworm.targets.databases.protocols import Database
from inchworm.targets.secret import Secret

ENTRY_POINTS = "inchworm.databases"

_OURS = MappingProxyType(
    {
        "duckdb": "inchworm.targets.databases.duckdb",
        "postgres": "inchworm.targets.databases.postgres",
        "postgresql": "inchworm.targets.databases.postgres",
        "sqlite": "inchworm.targets.databases.sqlite",
    }
)
"""The package of each scheme that comes with Inchworm; each has a ``PRODUCT``."""


_EMBEDDED = "duckdb"
"""The dialect of the product that needs no server, for projects in any other dialect."""


class Address(Struct, frozen=True, kw_only=True):
    """Where a database is, and how to reach it.

    Attributes:
        url: without a password.
        root: the project's folder, where relative paths start.
        login: who is logged in on this machine, for databases that know no users.
        person: who is at work, for others who find the database in use.
        password: for databases that ask for one.
        read_only: for looking only; a database that is not there yet is then not created.
        threads: how many the database may use, where it can be told.
        reads: patterns of files and addresses that queries may read, where the database reads them
            with the rights of this process.
    """

    url: str
    root: Path
    login: str = ""
    person: str = ""
    password: Secret | None = None
    read_only: bool = False
    threads: int | None = None
    reads: tuple[str, ...] = ()

    @property
    def path(self) -> Path:
        """The file of ``scheme:///path``; with four slashes the path is absolute."""
        place = self.url.partition("://")[2]
        return Path(place[1:]) if place.startswith("//") else self.root / place.lstrip("/")


class Starter(Struct, frozen=True, kw_only=True):
    """The first environment of a new project in the product's dialect.

    Attributes:
        about: one sentence on what the database is.
        url: its address.
        preparation: commands that have to be run before the first promotion.
    """

    about: str
    url: str
    preparation: tuple[str, ...] = ()


class Product(Struct, frozen=True, kw_only=True):
    """A database product.

    Attributes:
        dialect: its SQL dialect, as the parser calls it.
        example: an address, for messages.
        connect: connects to a database.
        starter: the first environment of a new project of this name.
        is_shared: whether several runs can work in one at a time, each on parts of its own.
        longest_name: how many bytes the name of a table or column may have; None for any.
        in_memory: makes an empty database that nobody else sees, where the product runs inside the
            program.
        files: the files that a database consists of, those included that it has at times only;
            None of a product with a server. A database of files has no clock and no users of its
            own, and may be connected by one thread and used by another.
    """

    dialect: str
    example: str
    connect: Callable[[Address], Database]
    starter: Callable[[str], Starter]
    in_memory: Callable[[], Database] | None = None
    longest_name: int | None = None
    is_shared: bool = False
    files: Callable[[Address], Sequence[Path]] | None = None


def connect(
    url: str,
    *,
    root: Path,
    login: str = "",
    person: str = "",
    password: Secret | None = None,
    read_only: bool = False,
    threads: int | None = None,
    reads: Sequence[str] = (),
) -> Database:
    """Connect to the database at an address; the arguments are those of :class:`Address`.

    Raises:
        TargetError: when there is no adapter, or the database cannot be reached.
    """
    address = Address(
        url=url,
        root=root,
        login=login,
        person=person,
        password=password,
        read_only=read_only,
        threads=threads,
        reads=tuple(reads),
    )
    product = product_at(url)
    for file in product.files(address) if product.files is not None else ():
        check_no_link(root, file)
    return product.connect(address)


def product_at(url: str) -> Product:
    """The product of the database at an address.

    Raises:
        TargetError: when there is no adapter for it, or it cannot be loaded.
    """
    scheme, separator, _ = url.partition("://")
    product = product_of(scheme) if separator else None
    if product is None:
        known = ", ".join(sorted({product.example for product in products()}))
        raise TargetError(
            f"there is no adapter for the database {url!r}.",
            next=f"Write one of {known}; paths are relative to the project.",
        )
    return product


def product_of(scheme: str) -> Product | None:
    """The product of an address's scheme.

    Raises:
        TargetError: when the package that provides it cannot be loaded.
    """
    if scheme in _OURS:
        product: Product = import_module(_OURS[scheme]).PRODUCT
        return product
    return _plugged_in(scheme)


def products() -> list[Product]:
    """The products that come with Inchworm."""
    return [import_module(package).PRODUCT for package in sorted({*_OURS.values()})]


def starter_of(dialect: str, name: str) -> Starter:
    """The first environment of a new project; a DuckDB file unless the dialect has a product.

    Args:
        dialect: the project's SQL dialect.
        name: the project's name.
    """
    by_dialect = {product.dialect: product for product in products()}
    return by_dialect.get(dialect, by_dialect[_EMBEDDED]).starter(name)


def in_memory(dialect: str) -> Database | None:
    """An empty database for trying things, which nobody else sees.

    None for dialects of which no database runs inside the program.
    """
    for product in products():
        if product.dialect == dialect and product.in_memory is not None:
            return product.in_memory()
    return None


@cache
def _plugged_in(scheme: str) -> Product | None:
    from importlib.metadata import entry_points  # takes as long to import as all of ours

    for point in entry_points(group=ENTRY_POINTS):
        if point.name == scheme:
            try:
                product = point.load()
            except Exception as error:
                raise TargetError(
                    f"the database adapter {point.value} cannot be loaded: {type(error).__name__}.",
                    next="Ask whoever wrote that package.",
                ) from error
            if isinstance(product, Product):
                return product
            raise TargetError(
                f"{point.value} is no database adapter.",
                next="It has to be an inchworm.targets.databases.registry.Product.",
            )
    return None
