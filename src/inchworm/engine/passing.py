"""Whether a bundle has come the way that an environment demands: through those before it."""

from __future__ import annotations

from collections.abc import Sequence

from inchworm.core.bundle.bundle import Bundle
from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import BundleError, UsageError, Waiting
from inchworm.core.identifiers import PartId
from inchworm.core.parts import Digest
from inchworm.core.promotion.drafting.standing import other_content
from inchworm.engine.route import Passage
from inchworm.store.ledger import Ledger


def _check_not_taken_back(
    bundle: Bundle, passage: Passage, ledger: str, environment: Environment
) -> None:
    """Whether a bundle did not pass through an environment and was then taken back there.

    Raises:
        Waiting: when it was.
    """
    keys = {p.promotion for p in passage.promotions if p.digest == bundle.digest}
    for rollback in reversed(passage.promotions):
        if keys.intersection(rollback.undoes):
            raise Waiting(
                f"{bundle.name} was taken back in {passage.environment} by "
                f"{rollback.named(ledger)} ({rollback.at[:16].replace('T', ' ')} UTC, "
                f"{rollback.by}), which {environment.name} comes after.",
                where=environment.file,
                next=f"inchworm promote {bundle.name} --to {passage.environment}, if it may go in "
                "there again; else mend it and pack the next version.",
            )


def _check_not_chosen(
    bundle: Bundle, passage: Passage, ledger: str, environment: Environment
) -> None:
    """Whether no more than some chosen parts of a bundle went into an environment.

    Raises:
        Waiting: when that is so.
    """
    for promotion in reversed(passage.promotions):
        if promotion.digest == bundle.digest and promotion.mixture.is_choice:
            raise Waiting(
                f"only some parts of {bundle.name} went into {passage.environment} "
                f"({promotion.named(ledger)}), which {environment.name} comes after.",
                where=environment.file,
                next=f"inchworm promote {bundle.name} --to {passage.environment}",
            )


def held_before(passages: Sequence[Passage], digest: Digest) -> dict[PartId, str]:
    """The parts of a bundle that were kept on hold in environments before, each with where.

    Args:
        passages: what the databases of the environments before say.
        digest: the bundle's content digest.
    """
    held: dict[PartId, str] = {}
    for passage in passages:
        undone = {key for promotion in passage.promotions for key in promotion.undoes}
        of_bundle = [
            p for p in passage.promotions if p.digest == digest and p.promotion not in undone
        ]
        if of_bundle and not of_bundle[-1].mixture.is_choice:
            for part, source in of_bundle[-1].mixture.sources.items():
                if (
                    source != of_bundle[-1].bundle
                ):  # else it kept other values, and no other content
                    held.setdefault(PartId.parse(part), passage.environment)
    return held


def check_entry(
    bundle: Bundle, environment: Environment, passages: Sequence[Passage], ledger: Ledger
) -> tuple[Finding, ...]:
    """Whether an environment takes a bundle; findings about the way that it came.

    Whether it passed through the environments before is what their own databases say. The ledger is
    the second witness: it is asked where a database cannot be.

    Args:
        bundle: what is to go in.
        environment: where to.
        passages: what the databases of the environments before say.
        ledger: the ledger.

    Raises:
        UsageError: when it is a snapshot, and the environment takes none.
        BundleError: when its version went into one of them with other content.
        Waiting: when the bundle has not passed through the environments before this one.
    """
    if bundle.snapshot and not environment.snapshots:
        raise UsageError(
            f"{bundle.name} is a snapshot, and {environment.name} ({environment.protection}) "
            "takes none.",
            where=environment.file,
            next=f"Commit, tag the commit v{bundle.version}, and pack again: inchworm pack.",
        )
    findings: list[Finding] = []
    in_ledger = ledger.passed(bundle.digest) if passages else {}
    for passage in passages:
        for other in other_content(
            bundle.name, bundle.digest, passage.promotions, passage.environment
        ):
            raise BundleError(f"{other.message}.", next=other.remedy)
        if passage.has(bundle.digest):
            continue
        _check_not_taken_back(bundle, passage, ledger.id, environment)
        _check_not_chosen(bundle, passage, ledger.id, environment)
        witness = in_ledger.get(passage.environment)
        if witness is None:
            unasked = f" It could not be asked: {passage.problem}" if passage.problem else ""
            raise Waiting(
                f"{bundle.name} has not passed through {passage.environment} yet, which "
                f"{environment.name} comes after.{unasked}",
                where=environment.file,
                next=f"inchworm promote {bundle.name} --to {passage.environment}",
            )
        if not passage.problem:
            raise Waiting(
                f"{witness} took {bundle.name} into {passage.environment}, as this ledger says, "
                "but the database there knows nothing of it: it was restored, or is another one.",
                where=environment.file,
                next=f"inchworm promote {bundle.name} --to {passage.environment}",
            )
        findings.append(
            rules.ROUTE_NOT_ASKED.finding(
                f"whether {bundle.name} passed through {passage.environment} is known from "
                f"{witness} of this ledger alone: {passage.problem}"
            )
        )
    return tuple(findings)
