"""``inchworm serve``."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

import click

from inchworm.cli.listening import listen, url_of
from inchworm.cli.process import clock, collect_as_usual, machine, workplace
from inchworm.cli.visible import visible
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.ledger.runs import RunsAsked, RunSummary
from inchworm.core.parameters.values import read_duration
from inchworm.host.host import Host
from inchworm.host.incoming import Inbox
from inchworm.host.seen import Open
from inchworm.targets.secrets import Secrets
from inchworm.targets.services import sim_file

if TYPE_CHECKING:
    from starlette.applications import Starlette
    from uvicorn import Server


@click.command("serve")
@click.argument("environments", nargs=-1, required=True, metavar="ENV...")
@click.option(
    *("--port", "port"),
    type=click.IntRange(0, 65535),
    default=8860,
    show_default=True,
    help="Where it listens; 0 for any.",
)
@click.option("--address", default="127.0.0.1", show_default=True, help="The address it binds.")
@click.option(
    *("--token", "tokens"),
    multiple=True,
    metavar="[ENV=]REFERENCE",
    help="Lets who has it start runs, everywhere or in ENV: env:NAME, prod=env:NAME.",
)
@click.option(
    *("--flow-token", "flow_tokens"),
    multiple=True,
    metavar="[ENV=]REFERENCE",
    help="Lets who has it send to flows, everywhere or in ENV.",
)
@click.option(
    "--platform",
    "platforms",
    multiple=True,
    metavar="NAME=REFERENCE",
    help="Is the workspace and gateway NAME itself, at /platform/NAME, for whoever has the token.",
)
@click.option(
    *("--read-token", "read_tokens"),
    multiple=True,
    metavar="[ENV=]REFERENCE",
    help="Lets who has it see errors and people's names, as does every --token.",
)
@click.option(
    *("--open", "opened"),
    type=click.Choice([each.value for each in Open]),
    default=Open.STATUS.value,
    show_default=True,
    help="What a visitor without a token sees: status is without errors and names.",
)
@click.option(
    *("--host", "names"),
    multiple=True,
    metavar="NAME",
    help="A name by which browsers and programs ask for it; others are refused. Repeatable.",
)
@click.option(
    "--patience", default="10m", show_default=True, help="How long runs may end when it is stopped."
)
def command(
    environments: tuple[str, ...],
    port: int,
    address: str,
    tokens: tuple[str, ...],
    flow_tokens: tuple[str, ...],
    platforms: tuple[str, ...],
    read_tokens: tuple[str, ...],
    opened: str,
    names: tuple[str, ...],
    patience: str,
) -> None:
    """Run the schedules of environments, and tell how they stand, until stopped.

    A page for people at /, metrics at /metrics, POST /v1/runs to start a run, and what comes to
    inward flows at /flows/ENV/FLOW/PATH. Each run is a process of its own. SIGTERM lets runs end;
    what takes too long is stopped as Ctrl-C does it.
    """
    try:
        import uvicorn
    except ImportError as error:
        raise UsageError(
            "Serving needs a package that is not installed.",
            next='pip install "inchworm[serve]"',
        ) from error
    from inchworm.host.app import create_app
    from inchworm.host.guard import patient_protocol
    from inchworm.host.tokens import Tokens

    place = workplace()
    place.machine.trust.demand("run the schedules of its environments")
    watched = [place.project.environment(name).name for name in environments]
    secrets = Secrets(machine(place.root))
    starting, sending, reading = (
        Tokens.of(
            {
                name: secrets.resolve_own(ref).reveal()
                for name, ref in _by_environment(given, watched)
            }
        )
        for given in (tokens, flow_tokens, read_tokens)
    )
    host = Host(
        names=environments,
        workplace=workplace,
        start=_start,
        say=_say,
        patience=_seconds(patience),
    )
    collect_as_usual()

    def runs(asked: RunsAsked) -> list[RunSummary]:
        return workplace().ledger.runs(asked)

    served = {name: _platform(place.root, name, ref, secrets) for name, ref in _named(platforms)}
    app = create_app(
        *(host, runs, clock, starting, Inbox(workplace), sending, served, reading),
        opened=Open(opened),
        names={address.lower(), *_THIS_MACHINE, *(name.lower() for name in names)},
    )
    config = uvicorn.Config(app, log_level="warning", http=patient_protocol(), server_header=False)
    server = uvicorn.Server(config)
    # of itself it would end the process by the signal, before what runs could end
    server.capture_signals = nullcontext  # type: ignore[method-assign, assignment]
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: setattr(server, "should_exit", True))
    host.take_calls()
    listening = listen(address, port)
    beginning = threading.Thread(target=_begin_served, args=[server, host], name="begin")
    try:
        _say(f"{', '.join(environments)} at {url_of(address, listening.getsockname()[1])}")
        beginning.start()
        server.run(sockets=[listening])
    finally:
        server.should_exit = True
        beginning.join()
        _say("stopping: what runs may end")
        host.stop()
        _say("stopped")


def _begin_served(server: Server, host: Host) -> None:
    """Have the host begin once its server answers: an environment may have its platform there."""
    while not server.started and not server.should_exit:
        time.sleep(_MOMENT)
    if server.started:
        host.begin()


_THIS_MACHINE = ("localhost", "127.0.0.1", "::1")
_MOMENT = 0.05


def _named(given: Sequence[str]) -> Iterator[tuple[str, str]]:
    """The names of platforms, each with the reference of its token."""
    for each in given:
        name, equals, reference = each.partition("=")
        if not equals or not re.fullmatch(r"[a-z0-9][a-z0-9_-]*", name):
            raise UsageError(
                f"{each} is not NAME=REFERENCE.",
                next="Write prod=env:NAME, the name in lower-case letters, digits, _ and -.",
            )
        yield name, reference


def _platform(root: Path, name: str, token: str, secrets: Secrets) -> Starlette:
    """The workspace and gateway of that name, whose items are in a file of the project."""
    from inchworm.sim.app import create_app

    return create_app(
        sim_file(root, name),
        secrets.resolve_own(token).reveal(),
        secrets.for_service,
        simulates=False,
    )


def _by_environment(given: Sequence[str], environments: Sequence[str]) -> Iterator[tuple[str, str]]:
    """The reference of the token of each environment; one of its own goes before one for all.

    Raises:
        UsageError: when one is for an environment that is not served.
    """
    named = {each: ":" not in each.partition("=")[0] for each in given}  # references have a colon
    own = dict(each.split("=", 1) for each in given if named[each])
    for_all = [each for each in given if not named[each]]
    for name in own:
        if name not in environments:
            near = did_you_mean(name, environments, f"Serve it, too: inchworm serve {name}.")
            raise UsageError(f"A token is for {name}, which is not served.", next=near)
    if len(for_all) > 1:
        raise UsageError(
            "Two tokens are for all environments.", next="Write ENV=REFERENCE for each of them."
        )
    for name in environments:
        if reference := own.get(name, for_all[0] if for_all else None):
            yield name, reference


def _start(arguments: Sequence[str]) -> subprocess.Popen[str]:
    """The program in a process of its own, which signals to this one do not reach."""
    return subprocess.Popen(
        [sys.executable, "-m", "inchworm", *arguments],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
        start_new_session=True,
        env={**os.environ, "NO_COLOR": "1"},
    )


def _say(line: str) -> None:
    click.echo(visible(f"{clock():%Y-%m-%d %H:%M:%S}Z  {line}"))


def _seconds(text: str) -> float:
    try:
        return read_duration(text).total_seconds()
    except ValueError as error:
        raise click.UsageError(f"--patience: {error}.") from error
