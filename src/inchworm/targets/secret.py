"""The value of a secret, which refuses to be seen."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NoReturn

from inchworm.core.errors import TargetError


def without_secrets(text: str, secrets: Iterable[Secret]) -> str:
    """A text from outside in which each secret's value is replaced by its reference."""
    for secret in sorted(secrets, key=lambda each: len(each.reveal()), reverse=True):
        text = secret.hidden_in(text)
    return text


class Secret:
    """A secret's value. It refuses to be shown, logged or pickled; :meth:`reveal` gives it up."""

    __slots__ = ("_value", "reference", "version")

    def __init__(self, value: str, reference: str, version: str = "") -> None:
        self._value = value
        self.reference = reference
        self.version = version

    def reveal(self) -> str:
        """The value itself, for the driver or client that needs it."""
        return self._value

    def for_header(self) -> str:
        """The value as it can stand in a header of HTTP.

        Libraries repeat a header that they refuse in their errors; so it is refused here.

        Raises:
            TargetError: when it has a line break, a control character or a letter beyond ASCII.
        """
        if not (self._value.isascii() and self._value.isprintable()):
            raise TargetError(
                f"the secret {self.reference} has a line break, a control character or a letter "
                "beyond ASCII, which no token has.",
                next="Put the token there as one line, and nothing else.",
            )
        return self._value

    def hidden_in(self, text: str) -> str:
        """A text in which the value, should it stand there, is replaced by the reference."""
        return text.replace(self._value, str(self)) if self._value else text

    def __repr__(self) -> str:
        return f"Secret({self.reference})"

    def __str__(self) -> str:
        return f"<secret {self.reference}>"

    def __format__(self, spec: str) -> str:
        return str(self)

    def __reduce__(self) -> NoReturn:
        raise TypeError("a secret cannot be pickled or copied")
