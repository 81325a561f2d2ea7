"""Bodies of requests held against an API's schema."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from inchworm.core.running.sending import Operation

_FORMATS = (
    *("binary", "byte", "date", "date-time", "double", "email", "float", "int32", "int64"),
    *("ipv4", "ipv6", "password", "regex", "time", "uuid"),
)
"""The formats of texts and numbers that are held against their definition.

The validator knows more of them where the packages for it happen to be installed; then the same row
would be sent from one machine, and be a dead letter on another.
"""


class BodyValidator:
    """Holds bodies against the schema of an operation; references lead into the whole document.

    Args:
        openapi: the API's document.
        operation: one of its operations.
    """

    def __init__(self, openapi: Mapping[str, Any], operation: Operation) -> None:
        from openapi_schema_validator import (
            OAS30Validator,
            OAS31Validator,
            oas30_format_checker,
            oas31_format_checker,
        )

        schema = {**operation.schema, "components": openapi.get("components", {})}
        is_newer = str(openapi.get("openapi", "")).startswith("3.1")
        known = oas31_format_checker if is_newer else oas30_format_checker
        formats = type(known)(())
        formats.checkers = {
            name: known.checkers[name] for name in _FORMATS if name in known.checkers
        }
        validator = OAS31Validator if is_newer else OAS30Validator
        self._validator: Any = validator(schema, format_checker=formats)

    def fault(self, body: object) -> str:
        """Why the schema does not take a body; empty where it does."""
        error = next(iter(self._validator.iter_errors(body)), None)
        if error is None:
            return ""
        where = ".".join(map(str, error.absolute_path))
        return f"{where}: {error.message}" if where else str(error.message)
