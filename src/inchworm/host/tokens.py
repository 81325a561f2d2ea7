"""The tokens of a host: each opens one purpose, in the environments that it was given for."""

from __future__ import annotations

from collections.abc import Mapping
from http import HTTPStatus

from msgspec import Struct, field
from starlette.exceptions import HTTPException
from starlette.requests import Request

from inchworm.sim.requests import bearer, is_token, token_digest


class Tokens(Struct, frozen=True):
    """The tokens of one purpose, of which nothing but the digests is kept.

    Attributes:
        digests: by the name of the environment.
    """

    digests: Mapping[str, bytes] = field(default_factory=dict)

    @classmethod
    def of(cls, tokens: Mapping[str, str]) -> Tokens:
        """Those tokens, by the name of the environment."""
        return cls({name: token_digest(token) for name, token in tokens.items()})

    def has(self, given: str) -> bool:
        """Return True if a token is one of them; the time that it takes tells nothing."""
        return sum(is_token(given, digest) for digest in self.digests.values()) > 0

    def check(self, request: Request) -> None:
        """Whether a request has one of the tokens, whatever it is for.

        Raises:
            HTTPException: when there are none, or it has none of them.
        """
        if not self.digests:
            raise HTTPException(HTTPStatus.FORBIDDEN, "This host was given no token for that.")
        if not self.has(bearer(request)):
            raise HTTPException(HTTPStatus.UNAUTHORIZED, "The token is missing or wrong.")

    def check_for(self, request: Request, environment: str) -> None:
        """Whether a request has the token for an environment.

        Raises:
            HTTPException: when it has not.
        """
        self.check(request)
        expected = self.digests.get(environment)
        if expected is None or not is_token(bearer(request), expected):
            raise HTTPException(HTTPStatus.FORBIDDEN, f"The token is not one for {environment}.")
