"""Requests of whomever, held against what an application can take; errors are problem details.

Problem details are those of RFC 9457.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Awaitable, Callable, Mapping
from http import HTTPStatus
from typing import Any

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from inchworm.core.strict_json import read_json

HANG_UP = {"connection": "close"}
"""The header of an answer to a request whose rest nobody is going to read."""


def problem(status: int, detail: str, headers: Mapping[str, str] | None = None) -> Response:
    """An answer that says what is wrong."""
    if status == HTTPStatus.UNAUTHORIZED:
        headers = {**(headers or {}), "www-authenticate": "Bearer"}
    title = HTTPStatus(status).phrase
    return JSONResponse(
        {"title": title, "status": int(status), "detail": detail},
        status_code=status,
        media_type="application/problem+json",
        headers=headers,
    )


Handler = Callable[[Request], Awaitable[Response]]


def route(path: str, **handlers: Handler) -> Route:
    """One route for a path with all its methods, so that a 405 names every one of them.

    Args:
        path: the path.
        handlers: by method; who asks for the HEAD of something is answered as with GET.
    """

    async def handle(request: Request) -> Response:
        method = "GET" if request.method == "HEAD" else request.method
        return await handlers[method](request)

    return Route(path, handle, methods=list(handlers))


async def refused(request: Request, error: Exception) -> Response:
    """The answer for an exception of HTTP."""
    assert isinstance(error, HTTPException)
    return problem(error.status_code, error.detail, error.headers)


async def unreadable(request: Request, error: Exception) -> Response:
    """The answer for a request whose texts nothing can keep."""
    return problem(HTTPStatus.BAD_REQUEST, "It cannot be read.")


def token_digest(token: str) -> bytes:
    """By which a token is known; the token itself is not kept."""
    return hashlib.sha256(token.encode("utf-8", "surrogateescape")).digest()


def bearer(request: Request) -> str:
    """The bearer token of a request; empty where it has none."""
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    return token.strip() if scheme.lower() == "bearer" else ""


def is_token(given: str, expected: bytes) -> bool:
    """Whether a token is the one of a digest; it takes as long whatever is given."""
    return hmac.compare_digest(token_digest(given), expected)


async def json_of(request: Request, most: int) -> Any:
    """The body of a request, read from JSON.

    Args:
        request: the request.
        most: the bytes that it may have.

    Raises:
        HTTPException: when it has more, or is no JSON.
    """
    content = await body_of(request, most)
    try:
        return read_json(content)
    except (ValueError, RecursionError) as error:
        raise HTTPException(HTTPStatus.BAD_REQUEST, f"The body is no JSON: {error}.") from error


async def object_of(request: Request, most: int) -> dict[str, Any]:
    """The body of a request, read from JSON, which has to be an object.

    Raises:
        HTTPException: when it is none, or too large.
    """
    body = await json_of(request, most)
    if not isinstance(body, dict):
        raise HTTPException(HTTPStatus.BAD_REQUEST, "The body is no JSON object.")
    return body


async def body_of(request: Request, most: int) -> bytes:
    """The body of a request.

    Raises:
        HTTPException: when it has more than so many bytes.
    """
    content = bytearray()
    async for piece in request.stream():
        content += piece
        if len(content) > most:
            detail = f"A body has {most:,} bytes at most."
            raise HTTPException(HTTPStatus.REQUEST_ENTITY_TOO_LARGE, detail, HANG_UP)
    return bytes(content)
