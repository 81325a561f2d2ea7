"""Keeping the ledger: a key to sign with, a look at every entry, and all of it written out."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict

from inchworm.application.entry import checked_approvals
from inchworm.application.route import ask_passages
from inchworm.application.signing import SignedHead, check_seen, keep_head, key_path, signed_heads
from inchworm.application.workplace import Workplace
from inchworm.core.entry.judging import CheckedApproval
from inchworm.core.errors import BundleError, LedgerError
from inchworm.core.identifiers import PromotionId, promotion_key
from inchworm.core.ledger.entries import Entry, Row, first_break, head_in
from inchworm.core.ledger.events import HeardPart, Packed, PartsHeard
from inchworm.engine.route import Passage
from inchworm.project.people import read_people
from inchworm.project.waivers import read_waivers
from inchworm.store.keys import make_key, read_key
from inchworm.store.ledger import Ledger


class OwnKey(Struct, frozen=True, kw_only=True):
    """The key of whoever is at work.

    Attributes:
        public: base64.
        path: the file of the private key.
        is_new: whether it was made just now.
        of: the person whose key it is, as ``people.toml`` says; empty where it does not have it.
        asked: the environments that ask for signatures: of what, and of whom, in words.
    """

    public: str
    path: Path
    is_new: bool
    of: str
    asked: Mapping[str, str]


def own_key(workplace: Workplace) -> OwnKey:
    """The key of whoever is at work; a new one where there is none.

    Raises:
        UsageError: when the file is no key, or others can read it.
    """
    path = key_path(workplace)
    key = read_key(path)
    made = key or make_key(path)
    owner = read_people(workplace.root).with_key(made.public)
    asked = {}
    for environment in workplace.project.environments:
        conditions = environment.entry
        of = ["approvals"] if conditions.signed else []
        of += ["bundles"] if conditions.bundle_signed else []
        who = ", ".join(dict.fromkeys((*conditions.by, *conditions.bundle_by))) or "anybody"
        if of:
            asked[environment.name] = f"signed {' and '.join(of)}, by {who}"
    return OwnKey(
        public=made.public,
        path=path,
        is_new=key is None,
        of=owner.name if owner else "",
        asked=asked,
    )


class Verified(Struct, frozen=True, kw_only=True):
    """What came of looking at a ledger.

    Attributes:
        entries: how many there are.
        anchored: environments whose databases know the chain, and agree.
        unasked: environments that could not be asked, each with the reason.
        approvals: all of them, by promotion.
        heads: the ends of the chain that were signed at some time.
        index_faults: promotions and runs that the index tells otherwise than the entries.
        told_otherwise: what databases and waivers tell otherwise than the ledger, in words.
    """

    entries: int
    anchored: tuple[str, ...]
    unasked: tuple[tuple[str, str], ...]
    approvals: tuple[tuple[PromotionId, CheckedApproval], ...]
    heads: tuple[SignedHead, ...] = ()
    index_faults: tuple[str, ...] = ()
    told_otherwise: tuple[str, ...] = ()

    @property
    def is_wrong(self) -> bool:
        """True if anything does not count, or the index is not what the entries are."""
        return bool(self.wrong or self.wrong_heads or self.index_faults or self.told_otherwise)

    @property
    def wrong_heads(self) -> list[SignedHead]:
        """The signed ends that the chain does not have, or whose signature does not count."""
        return [each for each in self.heads if each.problem]

    @property
    def wrong(self) -> list[tuple[PromotionId, CheckedApproval]]:
        """The approvals that count in no case."""
        return [(id_, each) for id_, each in self.approvals if each.problem]


def verify(workplace: Workplace) -> Verified:
    """Follow the chain, hold it against all databases, and check every signature.

    Raises:
        LedgerError: when an entry was altered or is missing; it is named.
    """
    ledger = workplace.ledger
    if not ledger.exists:
        raise LedgerError("there is no ledger yet.", next="The first promotion begins one.")
    ledger.check()
    passages = ask_passages(workplace, [each.name for each in workplace.project.environments])
    heads = {each.environment: each.heads for each in passages if not each.problem}
    unasked = {each.environment: each.problem for each in passages if each.problem}
    ledger.check_behind(heads)
    check_seen(workplace)
    people = read_people(workplace.root)
    approvals = [
        (promotion.id, checked)
        for promotion in ledger.promotions()
        for checked in checked_approvals(promotion, people, ledger)
    ]
    return Verified(
        entries=ledger.count(),
        anchored=tuple(name for name, known in heads.items() if ledger.id in known),
        unasked=tuple(unasked.items()),
        approvals=tuple(approvals),
        heads=tuple(signed_heads(workplace, people)),
        index_faults=tuple(ledger.index_faults()),
        told_otherwise=(*_told_otherwise(ledger, passages), *_waived_otherwise(workplace)),
    )


def _waived_otherwise(workplace: Workplace) -> Iterator[str]:
    """Waivers whose owners saw another ledger than there is now, in words."""
    waivers, _ = read_waivers(workplace.root)
    for waiver in waivers:
        name, _, end = waiver.seen.partition(" ")
        head = head_in(end) if name == workplace.ledger.id else None
        if head is not None and workplace.ledger.hashes([head.number]) != {head.number: head.hash}:
            yield (
                f"the waiver of {waiver.rule} for {waiver.part}: entry {head.number} was another "
                f"one when {waiver.owner} wrote it"
            )


def _told_otherwise(ledger: Ledger, passages: Iterable[Passage]) -> Iterator[str]:
    """What the books of databases tell of our promotions otherwise than the ledger, in words."""
    for passage in passages:
        for told in passage.promotions:
            if told.id is None or told.id.ledger != ledger.id:
                continue
            name = f"{told.id} in {passage.environment}"
            if not ledger.has(str(told.id)):
                yield f"{name}: the ledger has no such promotion"
                continue
            ours = ledger.promotion(told.id)
            known = (ours.draft.environment, ours.draft.bundle, ours.draft.bundle_digest)
            if (passage.environment, told.bundle, told.digest) != known:
                yield f"{name}: the database says {told.bundle}, the ledger {ours.draft.bundle}"
            elif told.commit != ours.commit:
                yield f"{name}: the database says commit {told.commit}, the ledger {ours.commit}"


class Rebuilt(Struct, frozen=True, kw_only=True):
    """What a new ledger knows.

    Attributes:
        promotions: how many completed promotions each environment's database told of.
        bundles: how many bundles of the store were recorded again.
        unreadable: bundles that cannot be read, each with the reason.
        unasked: environments that could not be asked, each with the reason.
    """

    promotions: Mapping[str, int]
    bundles: int
    unreadable: tuple[tuple[str, str], ...]
    unasked: tuple[tuple[str, str], ...]


def rebuild(workplace: Workplace) -> Rebuilt:
    """Begin a ledger in place of one that was lost, with what bundles and databases know.

    Databases know the promotions that were completed, who carried them out, when and by what
    exception; drafts, approvals, failures and the course of steps are nowhere else than in the
    ledger that was lost.

    Raises:
        LedgerError: when there is a ledger.
    """
    ledger = workplace.ledger
    if ledger.exists:
        raise LedgerError(
            f"there is a ledger with {ledger.count():,} entries.",
            next="Restore its latest copy if it is damaged. To begin another one, move it away "
            "first, and keep it.",
        )
    ledger.begin()
    bundles, unreadable = 0, []
    for name in workplace.bundles.names():
        try:
            bundle = workplace.bundles.get(name)
        except BundleError as error:
            unreadable.append((name, error.what))
            continue
        ledger.packed(bundle.name, Packed.of_bundle(bundle))
        bundles += 1
    passages = ask_passages(workplace, [each.name for each in workplace.project.environments])
    for passage in passages:
        ledger.hear(passage.environment, passage.promotions)
        if passage.parts:
            ledger.append(passage.environment, PartsHeard(parts=_heard_parts(passage)))
    keep_head(workplace)
    return Rebuilt(
        promotions={p.environment: len(p.promotions) for p in passages if not p.problem},
        bundles=bundles,
        unreadable=tuple(unreadable),
        unasked=tuple((p.environment, p.problem) for p in passages if p.problem),
    )


def _heard_parts(passage: Passage) -> tuple[HeardPart, ...]:
    return tuple(
        HeardPart(
            part=str(part.part),
            environment=passage.environment,
            promotion=str(promotion_key(part.promotion) or part.promotion),
            bundle=part.bundle,
            commit=part.commit,
            at=part.put_at,
        )
        for part in passage.parts
    )


def exported(workplace: Workplace) -> Iterator[str]:
    """Every entry as a line of JSON, in order.

    Raises:
        LedgerError: when one of them was altered.
    """
    for entry in workplace.ledger.entries():
        yield json.dumps(asdict(entry) | {"hash": entry.hash}, ensure_ascii=False, sort_keys=True)


def imported(workplace: Workplace, lines: Iterable[str]) -> int:
    """Write entries that were written out before into a ledger that has none; how many.

    Raises:
        LedgerError: when there is a ledger, or the lines are not a whole chain.
    """
    ledger = workplace.ledger
    if ledger.exists:
        raise LedgerError(
            f"there is a ledger with {ledger.count():,} entries.",
            next="Move it away first, and keep it.",
        )
    rows: list[Row] = []
    for number, line in enumerate(lines, start=1):
        try:
            data = json.loads(line)
            given = data.pop("hash")
            entry = Entry(**data)
        except (ValueError, TypeError, KeyError) as error:
            raise LedgerError(
                f"line {number} is no entry of a ledger.", next="Give what ledger export wrote."
            ) from error
        if entry.hash != given:
            raise LedgerError(
                f"entry {number} was altered: its hash does not fit.",
                next="Give what ledger export wrote, as it wrote it.",
            )
        rows.append(entry.row)
    broken = first_break(rows) if rows else 1
    if broken is not None:
        raise LedgerError(
            f"entry {broken} is missing or altered.", next="Give all that ledger export wrote."
        )
    ledger.take_over(rows)
    return len(rows)
