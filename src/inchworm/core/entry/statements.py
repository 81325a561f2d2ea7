"""Signed statements: who said something about what, in open formats.

A statement is one of in-toto (version 1), and a signed one stands in a DSSE envelope
(https://github.com/in-toto/attestation, https://github.com/secure-systems-lab/dsse).
"""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from inchworm.core.parts import Digest

PAYLOAD_TYPE = "application/vnd.in-toto+json"
STATEMENT_TYPE = "https://in-toto.io/Statement/v1"

BUNDLE_PREDICATE = "https://inchworm.example/bundle/v1"
"""Somebody vouches for a bundle."""
HEAD_PREDICATE = "https://inchworm.example/ledger-head/v1"
"""Somebody saw a ledger whose latest entry had a hash."""


def statement(name: str, digest: Digest, kind: str, predicate: Mapping[str, Any]) -> bytes:
    """A statement: always the same bytes for the same words.

    Args:
        name: what it is about.
        digest: of that.
        kind: the URI of the predicate.
        predicate: the words, as plain data.
    """
    algorithm, _, value = digest.partition(":")
    body = {
        "_type": STATEMENT_TYPE,
        "subject": [{"name": name, "digest": {algorithm: value}}],
        "predicateType": kind,
        "predicate": dict(predicate),
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


class Opened(Struct, frozen=True, kw_only=True):
    """The content of an envelope, which nobody has held against the signature yet.

    Attributes:
        key: the public key that it names, base64.
    """

    payload: bytes
    key: str
    signature: bytes

    def says(self, name: str, digest: Digest, kind: str) -> Mapping[str, Any] | None:
        """The predicate, if the statement is of a kind and about one thing; None otherwise."""
        try:
            body = json.loads(self.payload)
            predicate: Mapping[str, Any] = body["predicate"]
        except (ValueError, KeyError, TypeError):
            return None
        is_it = isinstance(predicate, dict) and self.payload == statement(
            name, digest, kind, predicate
        )
        return predicate if is_it else None


def opened(held: object) -> Opened | None:
    """The content of an envelope with one signature; None where it is malformed."""
    try:
        if not isinstance(held, dict) or held["payloadType"] != PAYLOAD_TYPE:
            return None
        (signature,) = held["signatures"]
        return Opened(
            payload=base64.b64decode(held["payload"], validate=True),
            key=str(signature["keyid"]),
            signature=base64.b64decode(signature["sig"], validate=True),
        )
    except (KeyError, TypeError, ValueError):
        return None
