"""The key with which somebody signs: a file that only its owner can read."""

from __future__ import annotations

import base64
import os
import stat
from pathlib import Path

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_pem_private_key,
)

from inchworm.core.errors import UsageError

_OWNER_ONLY = 0o600
_OTHERS = 0o077
_OTHERS_WRITE = 0o022


class SigningKey:
    """A private Ed25519 key."""

    def __init__(self, key: Ed25519PrivateKey) -> None:
        self._key = key

    @property
    def public(self) -> str:
        """The public key, base64."""
        raw = self._key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
        return base64.b64encode(raw).decode()

    def sign(self, content: bytes) -> bytes:
        """The signature of some bytes."""
        return self._key.sign(content)


def read_key(path: Path) -> SigningKey | None:
    """The key in a file; None where there is none.

    Raises:
        UsageError: when the file is no Ed25519 key, or others can read it.
    """
    try:
        content = path.read_bytes()
        mode = path.stat().st_mode
    except FileNotFoundError:
        return None
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}.") from error
    folder = path.parent.stat().st_mode
    if folder & _OTHERS_WRITE and not folder & stat.S_ISVTX:
        raise UsageError(
            f"others may write in {path.parent}, so the key in it may be theirs.",
            next=f"chmod 700 {path.parent}",
        )
    if mode & _OTHERS:
        raise UsageError(
            f"{path} can be read by others, so whatever it signs may be theirs.",
            next=f"If nobody has copied it: chmod 600 {path}. Else remove it, make another one "
            "with inchworm ledger key, and replace it in people.toml.",
        )
    try:
        key = load_pem_private_key(content, password=None)
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise UsageError(f"{path} is no private key in PEM.", next=_MAKE_ANOTHER) from error
    if not isinstance(key, Ed25519PrivateKey):
        raise UsageError(f"{path} is not an Ed25519 key.", next=_MAKE_ANOTHER)
    return SigningKey(key)


def make_key(path: Path) -> SigningKey:
    """A new key in a new file.

    Raises:
        UsageError: when there is a file already, or none can be made.
    """
    key = Ed25519PrivateKey.generate()
    content = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    try:
        if not path.parent.is_dir():
            path.parent.mkdir(mode=0o700, parents=True)
            path.parent.chmod(0o700)  # whatever the umask took away, or left
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, _OWNER_ONLY), "wb") as f:
            f.write(content)
    except OSError as error:
        raise UsageError(f"{path} cannot be made: {error.strerror}.") from error
    return SigningKey(key)


def is_signed_by(public: str, signature: bytes, content: bytes) -> bool:
    """Whether a signature of some bytes was made with the private key of a public one, base64."""
    try:
        key = Ed25519PublicKey.from_public_bytes(base64.b64decode(public, validate=True))
        key.verify(signature, content)
    except (ValueError, InvalidSignature):
        return False
    return True


_MAKE_ANOTHER = "Move it away, and make one: inchworm ledger key."
