"""Signing bundles and the ends of ledgers, and holding signatures against people's keys."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from inchworm.application.workplace import Workplace
from inchworm.core.entry.judging import Vouched
from inchworm.core.entry.people import People
from inchworm.core.entry.statements import (
    BUNDLE_PREDICATE,
    HEAD_PREDICATE,
    envelope,
    opened,
    signed_bytes,
    statement,
)
from inchworm.core.errors import UsageError
from inchworm.core.ledger.events import HeadSigned
from inchworm.core.parts import Digest
from inchworm.targets.user_folder import UserFolder

if TYPE_CHECKING:
    from inchworm.core.bundle.bundle import Bundle
    from inchworm.store.keys import SigningKey

KEY_VARIABLE = "INCHWORM_KEY"
_KEY_FILE = "inchworm/key.pem"


def key_path(workplace: Workplace) -> Path:
    """Where the key of whoever is at work is: ``INCHWORM_KEY``, or their configuration folder."""
    environ = workplace.machine.environ
    if given := environ.get(KEY_VARIABLE):
        return Path(given)
    if folder := environ.get("XDG_CONFIG_HOME"):
        return Path(folder) / _KEY_FILE
    try:
        home = Path(environ.get("HOME") or Path.home())
    except RuntimeError as error:
        raise UsageError(
            "There is no home folder here in which a key could be.",
            next=f"Set {KEY_VARIABLE} to the file of the key.",
        ) from error
    return home / ".config" / _KEY_FILE


def own_signing_key(workplace: Workplace) -> SigningKey | None:
    """The key of whoever is at work; None where there is none, not even a home folder for it.

    Raises:
        UsageError: when ``INCHWORM_KEY`` names a file that is not there, or the file is no key, or
            others can read it.
    """
    try:
        path = key_path(workplace)
        is_there = path.is_file()
    except (OSError, UsageError):  # not ours to look into, or nowhere at all
        return None
    if not is_there and (given := workplace.machine.environ.get(KEY_VARIABLE)):
        raise UsageError(
            f"{KEY_VARIABLE} names {given}, and there is no key to sign with.",
            next="Put the key there, or take the variable away.",
        )
    if not is_there:
        return None
    from inchworm.store.keys import read_key  # cryptography, only where something is signed

    return read_key(path)


def sign_bundle(workplace: Workplace, bundle: Bundle) -> bool:
    """Put a signature beside a bundle, where whoever is at work has a key; whether one is there.

    Raises:
        UsageError: when the file is no key, or others can read it.
    """
    key = own_signing_key(workplace)
    if key is None:
        return False
    sealed = _sealed(
        workplace, key, bundle.name, bundle.digest, BUNDLE_PREDICATE, manifest=bundle.seal
    )
    fingerprint = hashlib.sha256(key.public.encode()).hexdigest()[:16]
    content = json.dumps(sealed, indent=1).encode() + b"\n"
    workplace.bundles.keep_signature(bundle.name, fingerprint, content)
    return True


def vouched_for(workplace: Workplace, bundle: Bundle, people: People) -> tuple[Vouched, ...]:
    """The signatures beside a bundle, each held against the keys of people."""
    return tuple(
        _vouched(content, bundle, people, workplace.today)
        for content in workplace.bundles.signatures(bundle.name)
    )


def _vouched(content: bytes, bundle: Bundle, people: People, today: dt.date) -> Vouched:
    try:
        held = opened(json.loads(content))
    except ValueError:
        held = None
    if held is None:
        return Vouched(problem="a signature file is malformed")
    predicate = held.says(bundle.name, bundle.digest, BUNDLE_PREDICATE)
    if predicate is None:
        return Vouched(problem="a signature is of other content")
    if predicate.get("manifest") != bundle.seal:
        return Vouched(problem="a signature is of another manifest: its commit may be another one")
    return _held_against(held.key, held.signature, held.payload, people, today)


def _held_against(
    key: str, signature: bytes, payload: bytes, people: People, day: dt.date
) -> Vouched:
    from inchworm.store.keys import is_signed_by

    if not is_signed_by(key, signature, signed_bytes(payload)):
        return Vouched(problem="a signature is wrong")
    person = people.with_key(key)
    if person is None:
        return Vouched(problem="a signature is made with a key that people.toml does not have")
    if not person.has_key_on(key, day):
        return Vouched(
            problem=f"a signature is made with a key of {person.name} that was not valid"
        )
    return Vouched(person=person)


def keep_head(workplace: Workplace) -> None:
    """Keep the end of the ledger where whoever can write the ledger cannot: call it after entries.

    Whoever can write the ledger could write all of it anew, with hashes that fit; but not with the
    hashes that others have signed, and not without those noticing who have seen its end: it is
    kept in the user's own folder.

    Raises:
        LedgerError: when the ledger cannot be written.
        UsageError: when the file of the key is no key, or others can read it.
    """
    ledger = workplace.ledger
    key = own_signing_key(workplace)
    if key is not None:
        head = ledger.head
        name, digest = _head_name(ledger.id, head.number), Digest(f"sha256:{head.hash}")
        sealed = _sealed(workplace, key, name, digest, HEAD_PREDICATE)
        event = HeadSigned(number=head.number, hash=head.hash, envelope=sealed)
        ledger.append(ledger.id, event)
    UserFolder.of(workplace.machine.environ).keep_head(ledger.place, ledger.head)


def check_seen(workplace: Workplace) -> None:
    """Hold the ledger against the end of it that this user saw last.

    Raises:
        LedgerError: when it lacks that entry, or has another one in its place.
    """
    ledger = workplace.ledger
    if not ledger.exists:
        return
    seen = UserFolder.of(workplace.machine.environ).seen_head(ledger.place)
    if seen is not None:
        ledger.check_has(seen)


class SignedHead(Struct, frozen=True, kw_only=True):
    """An end of the ledger that somebody signed.

    Attributes:
        number: that of the entry which was the last one then.
        by: who signed it.
        problem: why it does not count; empty when it does.
    """

    number: int
    by: str
    problem: str = ""


def signed_heads(workplace: Workplace, people: People) -> list[SignedHead]:
    """Every end of the ledger that was signed, held against the entries and people's keys."""
    hashes: dict[int, str] = {}
    heads = workplace.ledger.signed_heads()
    wanted = {head.number for head, _ in heads}
    if wanted:
        hashes = workplace.ledger.hashes(wanted)
    return [_checked(head, day, hashes, workplace.ledger.id, people) for head, day in heads]


def _checked(
    head: HeadSigned, day: dt.date, hashes: Mapping[int, str], ledger: str, people: People
) -> SignedHead:
    held = opened(head.envelope)
    name, digest = _head_name(ledger, head.number), Digest(f"sha256:{head.hash}")
    predicate = held.says(name, digest, HEAD_PREDICATE) if held else None
    if held is None or predicate is None:
        return SignedHead(number=head.number, by="?", problem="what is signed is something else")
    vouched = _held_against(held.key, held.signature, held.payload, people, day)
    by = vouched.person.name if vouched.person else str(predicate.get("by", "?"))
    if vouched.problem:
        return SignedHead(number=head.number, by=by, problem=vouched.problem)
    if hashes.get(head.number) != head.hash:
        problem = f"entry {head.number} was another one then: the ledger was written anew"
        return SignedHead(number=head.number, by=by, problem=problem)
    return SignedHead(number=head.number, by=by)


def _head_name(ledger: str, number: int) -> str:
    return f"{ledger}#{number}"


def _sealed(
    workplace: Workplace, key: SigningKey, name: str, digest: Digest, kind: str, **more: str
) -> dict[str, Any]:
    """The envelope of a statement that is signed."""
    predicate = {"by": workplace.user, "at": workplace.now(), **more}
    payload = statement(name, digest, kind, predicate)
    return envelope(payload, key.public, key.sign(signed_bytes(payload)))
