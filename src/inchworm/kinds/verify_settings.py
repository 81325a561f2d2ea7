"""``[[verify]]``: what has to hold once a promotion is there, as environments and parts ask it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Self

from pydantic import Field, field_validator, model_validator

from inchworm.core.environments.verification import Asked, Verification, key_in_body
from inchworm.core.parameters.values import read_duration
from inchworm.core.running.states import RunState
from inchworm.core.toml import TomlDocument
from inchworm.kinds.settings import Settings

_EXPECTED = {Asked.QUERY: "> 0", Asked.RUN: RunState.DONE.value}
"""Answers that are expected where nothing is said."""


class VerifySettings(Settings):
    """One ``[[verify]]``."""

    name: str = Field(pattern=r"^\S.*$")
    query: str | None = None
    http: str | None = None
    value: str | None = None
    run: str | None = None
    answer: str = ""
    status: int = Field(200, ge=100, le=599)
    token: str | None = None
    waits: str | None = None

    @field_validator("waits")
    @classmethod
    def _is_duration(cls, waits: str | None) -> str | None:
        if waits is not None:
            read_duration(waits)
        return waits

    @model_validator(mode="after")
    def _asks_one(self) -> Self:
        asked = [name for name in Asked if getattr(self, name.value) is not None]
        if len(asked) != 1:
            raise ValueError("must say one of query, http, value and run")
        if asked[0] is Asked.HTTP and self.answer:
            key_in_body(self.answer)
        if asked[0] is Asked.VALUE and not self.answer:
            raise ValueError('must say what is expected of the value: answer = "contains test"')
        if asked[0] is Asked.RUN and (self.answer or self.waits is not None):
            raise ValueError("of a run, nothing but its success can be expected, once")
        return self

    @property
    def verification(self) -> Verification:
        """The verification as the rest of the program has it."""
        asked = next(name for name in Asked if getattr(self, name.value) is not None)
        answer = self.answer or _EXPECTED.get(asked, "")
        return Verification(
            name=self.name,
            asked=asked,
            question=getattr(self, asked.value),
            answer=answer,
            status=self.status,
            token=self.token,
            waits=read_duration(self.waits).total_seconds() if self.waits else 0.0,
        )


class Verifying(Settings):
    """A file that may ask."""

    verify: tuple[VerifySettings, ...] = ()

    @field_validator("verify")
    @classmethod
    def _have_own_names(cls, verify: tuple[VerifySettings, ...]) -> tuple[VerifySettings, ...]:
        names = [each.name for each in verify]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"has two of the name {twice!r}")
        return verify

    @property
    def verifications(self) -> tuple[Verification, ...]:
        """What it asks, as the rest of the program has it."""
        return tuple(each.verification for each in self.verify)


def without_questions(document: TomlDocument) -> Mapping[str, Any]:
    """What a part's file says of the part itself; what it asks is for promotions alone."""
    return {key: value for key, value in document.values.items() if key != "verify"}
