"""The top of the program: which commands there are, and how errors end."""

from __future__ import annotations

import atexit
import errno
import gc
import importlib
import json
import logging
import os
import sys
import warnings

import click

from inchworm import __version__

SECTIONS: dict[str, dict[str, str]] = {
    "Write": {
        "new": "Start a project that can be promoted at once.",
        "trust": "Allow a project to start programs and to reach the places that it names.",
        "rows": "Show rows of a model as it is now, of a failing check, or of a live table.",
        "params": "Show every value in every environment; explain one, or set it.",
        "version": "Show the version, suggest the next one, or write it.",
    },
    "Check": {
        "check": "Say everything that is wrong in the source tree.",
        "trace": "Show what a column, table or part depends on, or what it affects.",
    },
    "Pack": {
        "pack": "Make the immutable bundle of this commit.",
        "bundles": "List bundles, and where each has been promoted.",
    },
    "Promote": {
        "promote": "Draft, show and carry out a promotion; go on with one that stopped.",
        "review": "Show everything about a draft to whoever has to say yes or no.",
        "approve": "Say yes or no to a draft, for the record.",
    },
    "Run": {
        "run": "Run what is live: a pipeline, model, notebook or flow.",
        "pause": "Have schedules of an environment start nothing for a while.",
        "serve": "Run the schedules of environments, and tell how they stand.",
    },
    "Watch": {
        "status": "Show what is where, since when and by whom, read from the targets.",
        "compare": "Compare environments, bundles, commits, or the source tree.",
        "drift": "Show what somebody changed in an environment by hand.",
        "doctor": "Try every place that a promotion needs, before it is needed.",
        "history": "List promotions and runs; show one step by step, or the life of a part.",
    },
    "Mend": {
        "rollback": "Take an environment back to what ran there before.",
        "hold": "Keep a part as it is in an environment, or out of it.",
        "adopt": "Take a schema, or what was changed by hand, into the source.",
        "waive": "Accept a finding for a while, with a reason and an end.",
        "ledger": "Make a key to sign with; verify the record, or write it out.",
    },
    "Try": {
        "demo": "Write the Riverwatch example and work through a day with it.",
        "sim": "Serve a simulated workspace and gateway, or make one refuse.",
    },
}
"""The commands in the order of work; each is a module of ``cli.commands``."""


#: Syntax trees are many small objects that all stay; looking through them often for garbage takes
#: longer than everything else that a check does.
_COLLECT_AFTER = 1_000_000


# Python would look through all that is left once more before it ends
atexit.register(gc.freeze)

# jsonschema imports it wherever it happens to be installed, for a format that nothing here checks;
# it builds a grammar then, which takes longer than most commands
sys.modules.setdefault("rfc3987_syntax", None)  # type: ignore[arg-type]


class Commands(click.Group):
    """A group that imports a command's module only when it runs."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All names, in the order of work."""
        return [name for commands in SECTIONS.values() for name in commands]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command of that name; case does not count."""
        name = cmd_name.lower()
        if name not in self.list_commands(ctx):
            return None
        module = importlib.import_module(f"inchworm.cli.commands.{name}")
        command: click.Command = module.command
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """As click does, with the nearest name when there is no such command."""
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError as error:
            from inchworm.core.errors import did_you_mean

            near = did_you_mean(args[0], self.list_commands(ctx), "See inchworm --help.")
            message = f"There is no command {args[0]}. {near}"
            raise click.UsageError(message, ctx) from error

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Sections in the order of work."""
        width = max(map(len, self.list_commands(ctx)))
        for section, commands in SECTIONS.items():
            with formatter.section(section):
                formatter.write_dl([(name.ljust(width), about) for name, about in commands.items()])


@click.group(
    cls=Commands,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(__version__, message="inchworm %(version)s")
def cli() -> None:
    """Promote data work from development to production, with its lineage.

    A project's pipelines, notebooks, models, schemas and flows are checked together, packed once
    into a bundle, and promoted from environment to environment, each with its own values.
    """


def main() -> None:
    """Run the program; an error becomes one message and an exit code."""
    # what the parser cannot follow becomes a finding; it need not say so on its own as well
    logging.getLogger("sqlglot").setLevel(logging.CRITICAL)
    if not sys.warnoptions:  # what libraries say to whoever uses them is not for our users
        warnings.simplefilter("ignore")
    gc.set_threshold(_COLLECT_AFTER, 50, 100)
    try:
        cli(standalone_mode=False)
    except click.exceptions.Exit as ending:
        sys.exit(ending.exit_code)
    except click.ClickException as error:
        _without_hidden(error).show()
        sys.exit(error.exit_code)
    except (click.Abort, KeyboardInterrupt):
        click.echo("Stopped.", err=True)
        sys.exit(130)
    except BrokenPipeError:
        # whoever read our output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(1)
    except Exception as error:
        sys.exit(_explained(error))


def _without_hidden(error: click.ClickException) -> click.ClickException:
    """The error, which suggests no option that no help tells of."""
    if isinstance(error, click.NoSuchOption) and error.possibilities and error.ctx is not None:
        hidden = {
            name
            for parameter in error.ctx.command.params
            if getattr(parameter, "hidden", False)
            for name in parameter.opts
        }
        shown = [name for name in error.possibilities if name not in hidden]
        return click.NoSuchOption(error.option_name, possibilities=shown, ctx=error.ctx)
    return error


_NOT_WRITTEN = {errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EIO}
"""Of errors that come while a file is written, when nobody says any more which one it is."""


def _explained(error: Exception) -> int:
    """Print an error that the user can act upon, and give its exit code; others go on."""
    from inchworm.cli.visible import escaped, visible
    from inchworm.core.errors import InchwormError, NotTrusted

    if isinstance(error, OSError) and error.filename is not None:
        reason = f"cannot be used: {error.strerror}."
        error = InchwormError(reason, where=str(error.filename), next="Check its permissions.")
    if isinstance(error, OSError) and error.errno in _NOT_WRITTEN:
        error = InchwormError(
            f"a file cannot be written: {error.strerror}.", next="Make room, or write it elsewhere."
        )
    if not isinstance(error, InchwormError | NotTrusted):
        raise error
    if "--json" in sys.argv:
        problem = {"what": error.what, "where": error.where, "next": error.next}
        click.echo(escaped(json.dumps({"format": "inchworm/error/1", "error": problem})))
    where = f"{error.where}: " if error.where else ""
    what = visible(f"{where}{error.what}")
    click.echo(f"{click.style('error', fg='red', bold=True)}  {what}", err=True)
    if error.next:
        click.echo(visible(f"next   {error.next}"), err=True)
    return error.exit_code
