"""Approvals: what somebody said about one draft, as a statement that can be signed.

A statement is one of in-toto (version 1), and a signed one stands in a DSSE envelope: both are open
formats (https://github.com/in-toto/attestation, https://github.com/secure-systems-lab/dsse).
"""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from enum import StrEnum
from typing import Any

from inchworm.core.parts import Digest

PAYLOAD_TYPE = "application/vnd.in-toto+json"
STATEMENT_TYPE = "https://in-toto.io/Statement/v1"
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


@dataclass(frozen=True, kw_only=True)
class Approval:
    """What somebody said about a draft, as the ledger keeps it.

    Attributes:
        promotion: the promotion's key, with its ledger.
        digest: of the draft.
        by: who it was.
        identity: by what that is known.
        at: when, ISO 8601, UTC.
        envelope: the signed statement; empty where it is not signed.
    """

    verdict: Verdict
    promotion: str
    digest: Digest
    by: str
    identity: Identity
    at: str
    because: str = ""
    envelope: Mapping[str, Any] = field(default_factory=dict)

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
        algorithm, _, value = self.digest.partition(":")
        body = {
            "_type": STATEMENT_TYPE,
            "subject": [{"name": self.promotion, "digest": {algorithm: value}}],
            "predicateType": PREDICATE_TYPE,
            "predicate": {
                "verdict": self.verdict.value,
                "because": self.because,
                "by": self.by,
                "at": self.at,
            },
        }
        return json.dumps(body, sort_keys=True, ensure_ascii=False).encode()


def signed_bytes(payload: bytes) -> bytes:
    """The bytes over which a signature of DSSE is made: its pre-authentication encoding."""
    kind = PAYLOAD_TYPE.encode()
    return b" ".join(
        [b"DSSEv1", str(len(kind)).encode(), kind, str(len(payload)).encode(), payload]
    )


def envelope(payload: bytes, key: str, signature: bytes) -> dict[str, Any]:
    """The DSSE envelope of a signed payload.

    Args:
        payload: the statement.
        key: the public key, base64.
        signature: over :func:`signed_bytes`.
    """
    return {
        "payloadType": PAYLOAD_TYPE,
        "payload": base64.b64encode(payload).decode(),
        "signatures": [{"keyid": key, "sig": base64.b64encode(signature).decode()}],
    }


def signature_in(approval: Approval) -> tuple[str, bytes] | None:
    """The public key that an envelope names, and the signature; None where it is malformed.

    It is malformed, too, when the statement in it says something else than the approval.
    """
    held = approval.envelope
    try:
        (signature,) = held["signatures"]
        payload = base64.b64decode(held["payload"], validate=True)
        key_and_signature = (
            str(signature["keyid"]),
            base64.b64decode(signature["sig"], validate=True),
        )
    except (KeyError, TypeError, ValueError):
        return None
    is_same = held.get("payloadType") == PAYLOAD_TYPE and payload == approval.statement
    return key_and_signature if is_same else None
