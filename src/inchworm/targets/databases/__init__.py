"""Databases: protocols, a registry of products, a package for each, and the bookkeeping.

Nothing outside a product's package knows the product; what differs is a method of the protocols.
"""

from inchworm.targets.databases.protocols import Database
from inchworm.targets.databases.registry import Address, connect

__all__ = ["Address", "Database", "connect"]
