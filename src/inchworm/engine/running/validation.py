"""Bodies of requests held against an API's schema."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from inchworm.core.running.sending import Operation


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
        if str(openapi.get("openapi", "")).startswith("3.1"):
            self._validator: Any = OAS31Validator(schema, format_checker=oas31_format_checker)
        else:
            self._validator = OAS30Validator(schema, format_checker=oas30_format_checker)

    def fault(self, body: object) -> str:
        """Why the schema does not take a body; empty where it does."""
        error = next(iter(self._validator.iter_errors(body)), None)
        if error is None:
            return ""
        where = ".".join(map(str, error.absolute_path))
        return f"{where}: {error.message}" if where else str(error.message)
