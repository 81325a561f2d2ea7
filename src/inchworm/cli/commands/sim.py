"""``inchworm sim``."""

from __future__ import annotations

from pathlib import Path

import click

from inchworm.cli.app import App
from inchworm.targets.secrets import resolve
from inchworm.targets.services import SIM_FOLDER, connect_service


@click.group("sim")
def command() -> None:
    """Serve a simulated workspace and gateway, or make one refuse.

    An environment that says url = "sim:NAME" uses the same service in process.
    """


@command.command("serve")
@click.argument("name")
@click.option("--port", default=8850, show_default=True, help="Where it listens, on 127.0.0.1.")
@click.option("--token", metavar="REFERENCE", help="Ask for a token, e.g. env:SIM_TOKEN.")
def serve(name: str, port: int, token: str | None) -> None:
    """Serve the simulated services NAME over HTTP until stopped."""
    import uvicorn

    from inchworm.sim.app import create_app

    root = Path.cwd()
    secret = resolve(token, root).reveal() if token else None
    app = create_app(root / SIM_FOLDER / f"{name}.sqlite", secret)
    click.echo(f"{name} answers at http://127.0.0.1:{port} (described at /openapi.json)")
    uvicorn.run(app, host="127.0.0.1", port=port, log_level="warning")


@command.command("refuse")
@click.argument("name")
@click.argument("flow")
@click.option("--because", "reason", default="The endpoint does not answer.", show_default=True)
@click.option("--no-more", is_flag=True, help="Let it be activated again.")
def refuse(name: str, flow: str, reason: str, no_more: bool) -> None:
    """Make the gateway of sim:NAME refuse to activate FLOW, to see what a promotion does then."""
    service = connect_service(f"sim:{name}", App.here().root)
    target = flow if flow.startswith("flow:") else f"flow:{flow}"
    service.set_fault(target, None if no_more else reason)
    click.echo(f"sim:{name} will {'activate' if no_more else 'refuse'} {target}.")
