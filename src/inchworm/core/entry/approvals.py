"""Approvals: what somebody said about one draft, as a statement that can be signed."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict

from inchworm.core.entry.statements import opened, statement
from inchworm.core.parts import Digest

PREDICATE_TYPE = "https://inchworm.example/approval/v1"


class Verdict(StrEnum):
    """What somebody said about a draft."""

    APPROVED = "approved"
    REJECTED = "rejected"
    EXCEPTION = "exception"
    """It may run although conditions are missing."""


class Identity(StrEnum):
    """By what it is known who somebody is."""

    KEY = "key"
    GIT = "git"
    SYSTEM = "system"


class Approval(Struct, frozen=True, kw_only=True):
    """What somebody said about a draft, as the ledger keeps it.

    Attributes:
        promotion: the promotion's key, with its ledger.
        digest: of the draft.
        by: who it was.
        identity: by what that is known.
        at: when, ISO 8601, UTC.
        envelope: the signed statement; empty where it is not signed.
        head: the end of the ledger that they saw, ``NUMBER:HASH``; former versions kept none.
    """

    verdict: Verdict
    promotion: str
    digest: Digest
    by: str
    identity: Identity
    at: str
    because: str = ""
    envelope: Mapping[str, Any] = field(default_factory=dict)
    head: str = ""

    def to_json(self) -> dict[str, Any]:
        """The approval as the ledger keeps it."""
        return asdict(self) | {
            "verdict": self.verdict.value,
            "identity": self.identity.value,
            "envelope": dict(self.envelope),
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Approval:
        """An approval as the ledger kept it."""
        return cls(
            **{
                **data,
                "verdict": Verdict(data["verdict"]),
                "identity": Identity(data["identity"]),
                "digest": Digest(data["digest"]),
            }
        )

    @property
    def statement(self) -> bytes:
        """The statement that is signed: always the same bytes for the same approval."""
        predicate = {
            "verdict": self.verdict.value,
            "because": self.because,
            "by": self.by,
            "at": self.at,
            **({"head": self.head} if self.head else {}),
        }
        return statement(self.promotion, self.digest, PREDICATE_TYPE, predicate)


def signature_in(approval: Approval) -> tuple[str, bytes] | None:
    """The public key that an envelope names, and the signature; None where it is malformed.

    It is malformed, too, when the statement in it says something else than the approval.
    """
    held = opened(approval.envelope)
    is_same = held is not None and held.payload == approval.statement
    return (held.key, held.signature) if held is not None and is_same else None
