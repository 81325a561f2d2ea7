"""Seals on what the program remembers: whoever lacks the user's key cannot make one.

A cache is a file that a clone, a colleague or another program may have written. A value counts only
with a seal that was made with the key in the user's own folder (BLAKE2b with a key, RFC 7693).
"""

from __future__ import annotations

import hashlib

from msgspec import Struct

_BYTES = 16


class Sealer(Struct, frozen=True):
    """Makes and compares seals.

    Attributes:
        key: at most 64 bytes, which nobody else knows.
    """

    key: bytes

    def seal(self, about: str, content: str | bytes) -> str:
        """Return the seal of a content, as hexadecimal digits.

        Args:
            about: what the content holds for; with another one the seal differs.
            content: the content.
        """
        name = about.encode(errors="surrogatepass")
        data = content.encode(errors="surrogatepass") if isinstance(content, str) else content
        digest = hashlib.blake2b(digest_size=_BYTES, key=self.key)
        digest.update(len(name).to_bytes(8) + name)
        digest.update(data)
        return digest.hexdigest()
