"""What runs in an environment now, and whether a bundle goes on from it or back behind it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from inchworm.core.bundle.bundle import version_in_name
from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import CompletedPromotion
from inchworm.core.promotion.promotion import Direction


def direction(
    project: str, bundle: str, digest: Digest, promotions: Sequence[CompletedPromotion]
) -> Direction:
    """Whether a bundle goes on from what runs in an environment, or back.

    It goes back when its version is lower than that of the bundle that runs there; and, where the
    versions are the same, when it was there before the one that runs there.

    Args:
        project: the project's name.
        bundle: the bundle's name.
        digest: its content digest.
        promotions: those that were completed there, in their order.
    """
    if not promotions:
        return Direction.FIRST
    last = promotions[-1]
    if last.digest == digest:
        return Direction.SAME
    new, live = version_in_name(project, bundle), version_in_name(project, last.bundle)
    if new != live:
        return Direction.BACK if new < live else Direction.ON
    was_here = any(promotion.digest == digest for promotion in promotions)
    return Direction.BACK if was_here else Direction.ON


def going_back(
    environment: str, bundle: str, heading: Direction, last: CompletedPromotion | None, *, may: bool
) -> Iterator[Finding]:
    """The finding against a bundle that goes back; a note where that was asked for.

    Args:
        environment: the environment's name.
        bundle: the bundle's name.
        heading: where it goes.
        last: the promotion of the bundle that runs there.
        may: whether going back was asked for.
    """
    if heading is Direction.BACK and last is not None:
        yield rules.GOES_BACK.finding(
            f"{bundle} goes back behind {last.bundle}, which runs in {environment} since "
            f"{last.at[:16].replace('T', ' ')} UTC, by {last.by}",
            severity=Severity.NOTE if may else None,
            remedy="It was asked for with --back." if may else None,
        )


def taken_back_before(
    digest: Digest, promotions: Sequence[CompletedPromotion], environment: str
) -> Iterator[Finding]:
    """The finding that a bundle was taken back in an environment, and comes there again.

    Args:
        digest: the bundle's content digest.
        promotions: those that were completed there, in their order.
        environment: the environment's name.
    """
    for back in reversed(promotions):
        undone = [p for p in promotions if p.promotion in back.undoes and p.digest == digest]
        if undone and promotions[-1].digest != digest:
            yield rules.TAKEN_BACK_BEFORE.finding(
                f"{undone[-1].bundle} was taken back in {environment} on "
                f"{back.at[:16].replace('T', ' ')} UTC, by {back.by}"
            )
            return


def other_content(
    bundle: str, digest: Digest, promotions: Sequence[CompletedPromotion], environment: str
) -> Iterator[Finding]:
    """The finding against a bundle whose version went into an environment with other content."""
    for promotion in promotions:
        if promotion.bundle == bundle and promotion.digest != digest:
            yield rules.OTHER_CONTENT.finding(
                f"{bundle} went into {environment} with other content "
                f"({promotion.digest[:19]}, commit {(promotion.commit or 'none')[:7]}, "
                f"{promotion.at[:10]} by {promotion.by}); this one is {digest[:19]}"
            )
            return
