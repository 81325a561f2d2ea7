"""``inchworm sim``."""

from __future__ import annotations

import datetime as dt
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from inchworm.cli.listening import listen, url_of
from inchworm.cli.process import clock, machine, shown_time, workplace
from inchworm.cli.terminal import console, print_json, rows
from inchworm.core.counting import counted
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.parameters.values import read_duration, spell_duration
from inchworm.project.file_index import PROJECT_FILE
from inchworm.sim.store import FURTHEST, SimStore, moved
from inchworm.targets.http_services import connect_service
from inchworm.targets.secrets import Secrets
from inchworm.targets.services import SIM_FOLDER, sim_file

if TYPE_CHECKING:
    from inchworm.application.workplace import Workplace


_HERE = "127.0.0.1"


@click.group("sim")
def command() -> None:
    """Serve a simulated workspace, gateway and secret store, or make one refuse.

    An environment that says url = "sim:NAME" uses the same service in process.
    """


@command.command("serve")
@click.argument("name")
@click.option(
    *("--port", "port"),
    type=click.IntRange(0, 65535),
    default=8850,
    show_default=True,
    help="Where it listens, on 127.0.0.1; 0 for any.",
)
@click.option("--token", metavar="REFERENCE", help="Ask for a token, e.g. env:SIM_TOKEN.")
def serve(name: str, port: int, token: str | None) -> None:
    """Serve the simulated services NAME over HTTP until stopped."""
    try:
        import uvicorn
    except ImportError as error:
        raise UsageError(
            "Serving needs a package that is not installed.",
            next='pip install "inchworm[serve]"',
        ) from error

    from inchworm.sim.app import create_app

    root = Path.cwd()
    if (root / PROJECT_FILE).is_file():
        machine(root).trust.demand("serve what its simulated services keep")
    secrets = Secrets(machine(root))
    secret = secrets.resolve_own(token).reveal() if token else None
    app = create_app(sim_file(root, name), secret, secrets.for_service)
    listening = listen(_HERE, port)
    url = url_of(_HERE, listening.getsockname()[1])
    click.echo(f"{name} answers at {url} (described at /openapi.json)")
    with suppress(KeyboardInterrupt):
        uvicorn.Server(uvicorn.Config(app, log_level="warning")).run(sockets=[listening])


@command.command("refuse")
@click.argument("name")
@click.argument("flow")
@click.option("--because", "reason", default="The endpoint does not answer.", show_default=True)
@click.option("--no-more", is_flag=True, help="Let it be activated again.")
def refuse(name: str, flow: str, reason: str, no_more: bool) -> None:
    """Make the gateway of sim:NAME refuse to activate FLOW, to see what a promotion does then."""
    place = _trusted()
    _check_used(place, name)
    service = connect_service(f"sim:{name}", place.root)
    click.get_current_context().call_on_close(service.close)
    target = flow if flow.startswith("flow:") else f"flow:{flow}"
    service.set_fault(target, None if no_more else reason)
    click.echo(f"sim:{name} will {'activate' if no_more else 'refuse'} {target}.")


@command.command("grant")
@click.argument("name")
@click.argument("token", metavar="REFERENCE")
@click.option("--for", "lasting", metavar="DURATION", help="How long, e.g. 8h; else for good.")
def grant(name: str, token: str, lasting: str | None) -> None:
    """Let a token (env:NAME or file:PATH) open the secret store of sim:NAME."""
    root = _trusted().root
    store = _store(root, name)
    ends_at = None if lasting is None else _end_of(lasting, store)
    store.grant(Secrets(machine(root)).resolve_own(token).reveal(), ends_at)
    how_long = f"for {lasting}" if lasting else "for good"
    click.echo(f"{token} opens the secret store of sim:{name} {how_long}.")


@command.command("keep")
@click.argument("name")
@click.argument("place", metavar="PATH#KEY")
@click.argument("secret", metavar="REFERENCE")
@click.option(
    "--for", "lasting", metavar="DURATION", help="How long it is valid, e.g. 1h; else for good."
)
def keep(name: str, place: str, secret: str, lasting: str | None) -> None:
    """Have the secret store of sim:NAME give a secret (env:NAME or file:PATH), as a new version.

    The store keeps where the secret is, and never the secret itself.
    """
    root = _trusted().root
    path, _, key = place.partition("#")
    if not path or not key:
        raise click.UsageError(f"{place} is not PATH#KEY.")
    store = _store(root, name)
    ends_at = None if lasting is None else _end_of(lasting, store)
    Secrets(machine(root)).resolve_own(secret)
    version = store.keep_secret(path, {key: secret}, ends_at)
    click.echo(f"secret:{place} is in sim:{name}, version {version}.")


@command.command("clock")
@click.argument("name")
@click.option("--by", "further", metavar="DURATION", help="Move it forward, e.g. 8h; adds up.")
@click.option("--reset", is_flag=True, help="Have it tell the machine's time again.")
def move_clock(name: str, further: str | None, reset: bool) -> None:
    """Tell the time by the clock of sim:NAME, or move it, to see what is due and what ends.

    Tokens and secrets end by it, and where it is an environment's workspace, inchworm serve starts
    schedules by it. What is recorded of promotions and runs has true times.
    """
    if further is not None and reset:
        raise click.UsageError("--by moves it, and --reset takes that back.")
    place = _trusted()
    _check_used(place, name)
    store = _store(place.root, name)
    ahead = 0 if reset else store.ahead() + (0 if further is None else round(_seconds(further)))
    if ahead > FURTHEST:
        raise UsageError(
            f"The clock of sim:{name} would be more than 50 years ahead.",
            next=f"inchworm sim clock {name} --reset",
        )
    store.set_ahead(ahead)
    time = shown_time(moved(clock(), ahead).astimezone(dt.UTC).isoformat())
    by = f", {spell_duration(dt.timedelta(seconds=ahead))} ahead of this machine" if ahead else ""
    click.echo(f"It is {time} UTC for sim:{name}{by}.")


@command.command("received")
@click.argument("name")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/received/1.")
def received(name: str, as_json: bool) -> None:
    """List what was sent to the service sim:NAME, each request once."""
    place = _trusted()
    _check_used(place, name)
    messages = _store(place.root, name).received()
    if as_json:
        print_json({"format": "inchworm/received/1", "received": messages})
        return
    screen = console()
    lines = [(shown_time(m["at"]), m["path"], m["body"]) for m in messages]
    screen.print(rows(("at, UTC", "to", "what"), lines))
    screen.print(counted(len(messages), "request"), style="dim")


def _trusted() -> Workplace:
    """The workplace of a project that may use its simulated services.

    Raises:
        NotTrusted: when the user has not allowed it.
    """
    place = workplace()
    place.machine.trust.demand("use its simulated services")
    return place


def _check_used(place: Workplace, name: str) -> None:
    """Whether a simulated service is used: a mistyped name would be a new one, with nothing in it.

    Raises:
        UsageError: when no environment has it and nothing has used it, with the nearest name.
    """
    used = {file.stem for file in (place.root / SIM_FOLDER).glob("*.sqlite")}
    for environment in place.project.environments:
        for service in environment.services.values():
            scheme, _, used_there = service.url.partition(":")
            used |= {used_there} if scheme == "sim" else set()
    if name not in used:
        otherwise = "It is there once a promotion, a flow or inchworm sim serve has used it."
        raise UsageError(
            f"Nothing uses a simulated service {name} here.",
            next=did_you_mean(name, sorted(used), otherwise),
        )


def _store(root: Path, name: str) -> SimStore:
    return SimStore(sim_file(root, name))


def _end_of(lasting: str, store: SimStore) -> float:
    """When something ends that lasts so long, by the clock of the service; seconds since 1970."""
    return moved(clock(), store.ahead()).timestamp() + _seconds(lasting)


def _seconds(duration: str) -> float:
    try:
        return read_duration(duration).total_seconds()
    except ValueError as error:
        raise UsageError(f"{error}.", next="Write it as 8h.") from error
