"""``inchworm promote``."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from inchworm.application.promoting import PromotionRequest, draft_promotion, drop, resume
from inchworm.application.workplace import Workplace
from inchworm.cli.options import allowing, drafting, duration
from inchworm.cli.process import shown_time, workplace
from inchworm.cli.promotions import Asking, carry_out, promote_drafted, title
from inchworm.cli.terminal import console
from inchworm.core.execution import StepState
from inchworm.core.identifiers import promotion_number
from inchworm.core.promotion.choosing import Choice


@click.command("promote")
@click.argument("what", metavar="BUNDLE|PROMOTION")
@click.option("--to", "environment_name", metavar="ENV", help="The environment, for a bundle.")
@click.option(
    "--value",
    "given",
    multiple=True,
    metavar="NAME=TEXT",
    help="A value for once, where the environment takes one; can be repeated.",
)
@click.option("--only", multiple=True, metavar="PARTS", help="Only these; can be repeated.")
@click.option("--except", "excluded", multiple=True, metavar="PARTS", help="All but these.")
@click.option("--with-upstream", is_flag=True, help="And what the chosen parts depend on.")
@click.option("--with-downstream", is_flag=True, help="And what depends on the chosen parts.")
@allowing
@click.option("--back", is_flag=True, help="The bundle may go back behind the one that runs there.")
@click.option("--drop", "dropped", is_flag=True, help="Drop a draft (P12); nothing changes.")
@click.option("--wait", metavar="DURATION", help="Wait so long for missing entry conditions: 2h.")
@click.option("--exception", is_flag=True, help="Let it in although entry conditions are missing.")
@click.option("--because", default="", metavar="TEXT", help="The reason for the exception.")
@drafting
def command(
    what: str,
    environment_name: str | None,
    given: tuple[str, ...],
    only: tuple[str, ...],
    excluded: tuple[str, ...],
    with_upstream: bool,
    with_downstream: bool,
    overwrite: bool,
    back: bool,
    put_back: bool,
    resumed: tuple[str, ...],
    only_draft: bool,
    dropped: bool,
    wait: str | None,
    exception: bool,
    because: str,
    yes: bool,
    as_json: bool,
) -> None:
    """Draft, show and carry out a promotion.

    With a bundle and --to ENV: work out what would happen in that environment as it stands now,
    show it, ask, and carry it out. With a promotion (P12): carry out exactly that draft, or go on
    with it where it stopped.

    With --only and --except, some parts go and all others stay as they are there. PARTS is a part,
    a pattern (model:hydro.*), a kind (model:), a folder or file (models/hydro/), an owner
    (owner:NAME), or @FILE with a line for each.

    Where the environment demands something of it ([entry]), it waits until that is met, with exit
    code 3: see inchworm review and inchworm approve.
    """
    place = workplace()
    is_promotion = promotion_number(what) is not None and environment_name is None
    if not is_promotion and environment_name is None:
        raise click.UsageError("Say where: --to ENV.")
    if is_promotion and given:
        raise click.UsageError(f"{what.upper()} is drafted; its values cannot change any more.")
    if is_promotion and (
        only or excluded or overwrite or back or put_back or resumed or only_draft
    ):
        raise click.UsageError(
            f"{what.upper()} is drafted as it is; --only, --except, --overwrite, --back, "
            "--put-back, --resume and --draft are for a bundle: "
            "inchworm promote BUNDLE --to ENV."
        )
    if dropped:
        _drop(place, what, because, is_promotion=is_promotion)
        return
    asking = Asking(
        yes=yes,
        as_json=as_json,
        wait=duration(wait),
        exception=exception,
        because=because,
    )
    if is_promotion:
        code = _go_on(place, what, asking)
    else:
        request = PromotionRequest(
            bundle=what,
            environment=environment_name or "",
            values=_values_given(given),
            overwrite=overwrite,
            back=back,
            put_back=put_back,
            resume=frozenset(resumed),
            choice=Choice(
                only=_listed(only),
                excluded=_listed(excluded),
                upstream=with_upstream,
                downstream=with_downstream,
            ),
        )
        code = promote_drafted(
            place,
            lambda: draft_promotion(place, request),
            request.environment,
            asking,
            only_draft=only_draft,
        )
    sys.exit(code)


def _drop(place: Workplace, what: str, because: str, *, is_promotion: bool) -> None:
    if not is_promotion:
        raise click.UsageError("--drop is for a draft: inchworm promote P12 --drop.")
    promotion = place.ledger.promotion(what)
    drop(place, promotion, because or f"dropped by {place.user}")
    click.echo(f"{promotion.id} is dropped. Nothing changed in {promotion.draft.environment}.")


def _listed(texts: tuple[str, ...]) -> tuple[str, ...]:
    """Texts, with those that stand in files: ``@FILE``, a line for each, ``#`` for remarks."""
    listed: list[str] = []
    for text in texts:
        if not text.startswith("@"):
            listed.append(text)
            continue
        try:
            lines = Path(text[1:]).read_text("utf-8").splitlines()
        except (OSError, UnicodeDecodeError) as error:
            raise click.UsageError(f"{text[1:]} cannot be read: {error}.") from error
        stripped = (line.partition("#")[0].strip() for line in lines)
        parts = [line for line in stripped if line]
        if not parts:
            raise click.UsageError(f"{text[1:]} names no part.")
        listed += parts
    return tuple(listed)


def _values_given(given: tuple[str, ...]) -> dict[str, str]:
    values: dict[str, str] = {}
    for text in given:
        name, equals, value = text.partition("=")
        if not equals or not name:
            raise click.UsageError(f"--value {text!r} is not NAME=TEXT.")
        values[name.strip()] = value
    return values


def _go_on(place: Workplace, id_: str, asking: Asking) -> int:
    resumed = resume(place, id_)
    promotion = resumed.promotion
    if not asking.as_json:
        screen = console()
        screen.print(title(str(promotion.id), promotion.draft, resumed.environment))
        done = sum(r.state is StepState.DONE for r in promotion.steps.values())
        text = f"drafted {shown_time(promotion.drafted_at)} UTC by {promotion.drafted_by}"
        if done:
            text += f"; {done} of {len(promotion.draft.steps)} steps are done, going on"
        screen.print(text, style="dim")
    return carry_out(place, resumed.prepared, promotion, asking)
