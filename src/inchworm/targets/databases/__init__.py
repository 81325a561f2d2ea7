"""Databases: one protocol, one adapter per product."""

from inchworm.targets.databases.base import Database, connect

__all__ = ["Database", "connect"]
