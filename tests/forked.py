"""Processes of the program that are forked from one which has imported it, and done nothing.

To start Python anew takes a second, longer than most of what a command does. A fork is a process
all the same: it has its own pipes, gets signals, and dies by them.
"""

from __future__ import annotations

import multiprocessing
import multiprocessing.connection
import os
import signal
import sys
import threading
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from multiprocessing.reduction import DupFd
from pathlib import Path
from typing import Any, TextIO

from inchworm.cli.main import main

_PRELOADED = [
    "tests.forked",
    "tests.program.crash",
    "inchworm.application.entry",
    "inchworm.application.running",
    "inchworm.cli.commands.check",
    "inchworm.cli.commands.pack",
    "inchworm.cli.commands.promote",
    "inchworm.cli.commands.run",
    "inchworm.cli.commands.status",
    "inchworm.engine.promoting",
    "inchworm.kinds.connection",
    "inchworm.kinds.flow",
    "inchworm.kinds.model",
    "inchworm.kinds.notebook",
    "inchworm.kinds.pipeline",
    "inchworm.kinds.schema",
    "inchworm.notebook",
    "inchworm.project.config",
    "inchworm.sim.app",
    "inchworm.store.ledgers.sqlite",
    "pandas",
    "sqlglot.dialects.duckdb",
    "sqlglot.dialects.postgres",
    "sqlglot.dialects.sqlite",
    "inchworm.targets.databases.duckdb",
    "inchworm.targets.databases.duckdb.models",
    "inchworm.targets.databases.postgres.models",
    "inchworm.targets.databases.sqlite.models",
    "nbclient",
    "openapi_spec_validator",
    "tests.frozen",
]


class Started:
    """A command of the program that runs; called like the standard library's ``Popen``.

    Args:
        folder: where it runs.
        environ: its environment variables, and no others.
        arguments: the command; or Python code, which is executed in place of one.
        keyboard: what it reads from, such as a terminal; else there is nothing to read.
    """

    def __init__(
        self,
        folder: Path,
        environ: Mapping[str, str],
        arguments: Sequence[str] | str,
        keyboard: int | None = None,
    ) -> None:
        (out, out_of_child), (err, err_of_child) = os.pipe(), os.pipe()
        pipes = (_Pipe(out_of_child), _Pipe(err_of_child))
        typed = _Pipe(keyboard) if keyboard is not None else None
        given = arguments if isinstance(arguments, str) else tuple(arguments)
        self._process = fork(_command, *pipes, typed, folder, dict(environ), given)
        os.close(out_of_child)
        os.close(err_of_child)
        self.stdout: TextIO = open(out, encoding="utf-8")  # noqa: SIM115
        self.stderr: TextIO = open(err, encoding="utf-8")  # noqa: SIM115

    @property
    def pid(self) -> int:
        """The process's number."""
        assert self._process.pid is not None
        return int(self._process.pid)

    @property
    def returncode(self) -> int | None:
        """How it ended: its exit code, or a signal's number below zero; None while it runs."""
        with _ONE_ASKS:
            code: int | None = self._process.exitcode
        return code

    def poll(self) -> int | None:
        """The same, asked anew."""
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its end.

        Raises:
            TimeoutError: when it has not ended after so many seconds.
        """
        multiprocessing.connection.wait([self._process.sentinel], timeout)
        if self.returncode is None:
            raise TimeoutError(f"process {self.pid} has not ended after {timeout} s")
        return self.returncode

    def communicate(self, timeout: float | None = None) -> tuple[str, str]:
        """Everything that it still prints, until it has ended."""
        with ThreadPoolExecutor(2) as readers, self.stdout, self.stderr:
            out, err = (readers.submit(stream.read) for stream in (self.stdout, self.stderr))
            printed = out.result(timeout), err.result(timeout)
        self.wait(timeout)
        return printed

    def send_signal(self, number: int) -> None:
        """Send it a signal, unless it has ended."""
        if self.poll() is None:
            os.kill(self.pid, number)


class _Pipe:
    """The writing end of a pipe, on its way into a process that is forked elsewhere."""

    def __init__(self, number: int) -> None:
        self._number = number

    def __reduce__(self) -> tuple[Callable[[Any], int], tuple[Any]]:
        return _received, (DupFd(self._number),)


def _received(pipe: Any) -> int:
    return int(pipe.detach())


def fork(target: Callable[..., None], *given: object) -> Any:
    """Start a fork that calls a function of a module which it has imported."""
    processes = multiprocessing.get_context("forkserver")
    processes.set_forkserver_preload(_PRELOADED)
    process = processes.Process(target=target, args=given)
    with _ONE_ASKS:
        process.start()
    return process


_ONE_ASKS = threading.Lock()
"""Held while processes are asked how they ended, which starting another one does, too: of two
threads that ask at once, one is told that the process ended in no known way."""


def enter(folder: Path, environ: Mapping[str, str]) -> None:
    """Be in a folder, with these environment variables and no others; imports follow them."""
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environ)
    more = environ.get("PYTHONPATH", "").split(os.pathsep)
    sys.path[:0] = [place for place in more if place and place not in sys.path]


def _command(
    out: int,
    err: int,
    keyboard: int | None,
    folder: Path,
    environ: Mapping[str, str],
    arguments: Sequence[str] | str,
) -> None:
    """What the process does: the program's main function, or code, on its own pipes."""
    for pipe, number in ((out, 1), (err, 2)):
        os.dup2(pipe, number)
        os.close(pipe)
    enter(folder, environ)
    # whoever started the tests in the background had Ctrl-C ignored for all of them
    signal.signal(signal.SIGINT, signal.default_int_handler)
    sys.stdin = open(os.devnull if keyboard is None else keyboard, encoding="utf-8")  # noqa: SIM115
    sys.stdout = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stderr = open(2, "w", encoding="utf-8", closefd=False, buffering=1)  # noqa: SIM115
    if isinstance(arguments, str):
        exec(compile(arguments, "<desk>", "exec"), {"__name__": "__main__"})
        return
    sys.argv = ["inchworm", *arguments]
    main()
