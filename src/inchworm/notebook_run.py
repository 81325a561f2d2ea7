"""The helper of a notebook that a run executes: it asks the process that runs the notebook.

The kernel has neither the environment's values nor a way into its database. It sends what it wants
as JSON; what comes back was pickled by the process that started it. Rows go the other way as
Parquet files. On the same machine all of that goes through a socket and a folder that nobody else
can look into; to a kernel of a notebook server, through the kernel's own channel for questions to
whoever runs it, on which ``input()`` asks otherwise.
"""

from __future__ import annotations

import base64
import io
import json
import os
import pickle
import sys
import tempfile
import uuid
import zipfile
from collections.abc import Callable, Mapping, Sequence
from multiprocessing.connection import Client, Connection
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn, Protocol

from inchworm import __version__
from inchworm.core.errors import UsageError
from inchworm.targets.kernel_channels import PIECE

if TYPE_CHECKING:
    import pandas as pd


class Channel(Protocol):
    """Leads to the process that runs the notebook."""

    folder: Path
    """Where files are written on their way there."""

    def ask(self, request: bytes) -> bytes:
        """The answer to a request."""
        ...

    def carry(self, file: Path) -> None:
        """Have a file of the folder be where the other side looks for it."""
        ...


class Socket:
    """Leads there on the same machine.

    Args:
        connection: to the process.
        folder: a folder that both can look into.
    """

    def __init__(self, connection: Connection, folder: Path) -> None:
        self._connection = connection
        self.folder = folder

    def ask(self, request: bytes) -> bytes:
        """The answer to a request."""
        self._connection.send_bytes(request)
        return self._connection.recv_bytes()

    def carry(self, file: Path) -> None:
        """It is there."""


class Questions:
    """Leads there through the kernel's questions to whoever runs it, in pieces.

    Args:
        ask: puts a question, as ``input()`` does.
        key: begins every question of ours, so that no other is taken for one.
        folder: a folder of the kernel's own.
    """

    def __init__(self, ask: Callable[[str], str], key: str, folder: Path) -> None:
        self._question = ask
        self._key = key
        self.folder = folder

    def ask(self, request: bytes) -> bytes:
        """The answer to a request."""
        self._send("ask", request)
        answer = io.BytesIO()
        more = True
        while more:
            piece = json.loads(self._put({"go_on": True}))
            answer.write(base64.b64decode(piece["data"]))
            more = piece["more"]
        return answer.getvalue()

    def carry(self, file: Path) -> None:
        """Send it over."""
        self._send(file.name, file.read_bytes())
        file.unlink()

    def _send(self, name: str, content: bytes) -> None:
        for start in range(0, len(content), PIECE):
            piece = base64.b64encode(content[start : start + PIECE]).decode()
            self._put({"name": name, "data": piece, "more": start + PIECE < len(content)})

    def _put(self, question: Mapping[str, Any]) -> str:
        return self._question(self._key + json.dumps(question))


class RunSurroundings:
    """The environment of a run, as a notebook sees it; its methods are those of ``env`` at a desk.

    Args:
        channel: to the process that runs the notebook.
    """

    def __init__(self, channel: Channel) -> None:
        self._channel = channel
        self.measures: dict[str, float] = {}
        """The numbers given to :meth:`measure`, by name."""

    def query(self, sql: str) -> pd.DataFrame:
        """The rows of a query, written with logical names and ``:parameters``."""
        frame: pd.DataFrame = self._ask("query", sql=sql)
        return frame

    def table(self, name: str) -> pd.DataFrame:
        """A whole table, by its logical name."""
        frame: pd.DataFrame = self._ask("table", name=name)
        return frame

    def value(self, name: str) -> Any:
        """A parameter's value here; of a secret, the secret itself."""
        return self._ask("value", name=name)

    def store(
        self,
        table: str,
        frame: pd.DataFrame,
        *,
        key: Sequence[str] = (),
        columns: Mapping[str, str] | None = None,
    ) -> int:
        """Put rows into a table of the notebook's own; they go live when the notebook has ended.

        Args:
            table: its logical name.
            frame: the rows.
            key: rows with the same key are replaced, others stay; without a key all are replaced.
            columns: the table's columns and SQL types, as the notebook declares them.
        """
        from inchworm.engine.notebook_rows import promised_columns
        from inchworm.store.frames import write_frame

        names = promised_columns(table, frame.columns, columns)
        file = self._channel.folder / f"{uuid.uuid4().hex}.parquet"
        write_frame(frame[names], file)
        self._channel.carry(file)
        stored: int = self._ask("store", table=table, file=file.name, key=list(key), columns=names)
        return stored

    def measure(self, name: str, value: float) -> None:
        """A number about this run, such as the error of a forecast; it is recorded with the run."""
        self.measures[name] = float(value)
        self._ask("measure", name=name, value=float(value))

    def keep(self, path: str | Path) -> None:
        """Keep a file with the run, such as a trained model: ``inchworm history R12 --kept NAME``.

        Args:
            path: the file; it is known by its name, without folders.

        Raises:
            UsageError: when it does not exist, or has a secret in it.
        """
        from inchworm.safe_files import file_to_keep

        file = file_to_keep(path)
        copy = self._channel.folder / f"{uuid.uuid4().hex}.kept"
        copy.write_bytes(file.read_bytes())
        self._channel.carry(copy)
        self._ask("keep", name=file.name, file=copy.name)

    def _ask(self, call: str, **arguments: Any) -> Any:
        request = json.dumps({"call": call, **arguments}).encode()
        is_answered, answer = pickle.loads(self._channel.ask(request))
        if not is_answered:
            raise UsageError(answer["what"], next=answer["next"])
        return answer


def prepare(
    memory: int | None, threads: int | None, library: str, address: str, key: bytes, folder: str
) -> None:
    """Make a kernel of this machine ready for a run.

    Args:
        memory: bytes that it may take.
        threads: processors that it may use.
        library: the folder of the project's libraries.
        address: of the socket of the process that runs the notebook.
        key: that opens the socket.
        folder: where rows are written on their way there.
    """
    channel = Socket(Client(address, family="AF_UNIX", authkey=key), Path(folder))
    _make_ready(channel, library, memory, threads)


def prepare_at_server(
    version: str, memory: int | None, threads: int | None, libraries: str, key: str
) -> None:
    """Make a kernel of a notebook server ready for a run, in a temporary folder.

    Args:
        version: of Inchworm, where the run is.
        memory: bytes that it may take.
        threads: processors that it may use.
        libraries: a ZIP archive of the project's libraries, in Base64.
        key: begins every question of ours.
    """
    from IPython.core.getipython import get_ipython

    if version != __version__:
        raise RuntimeError(
            f"it has Inchworm {__version__}, and the run has {version}: install the same there"
        )
    kernel: Any = getattr(get_ipython(), "kernel")  # noqa: B009 - only shells of kernels have one
    question, kernel.raw_input, kernel.getpass = kernel.raw_input, _refuse, _refuse
    folder = tempfile.TemporaryDirectory(prefix="inchworm-", ignore_cleanup_errors=True)
    _made.append(folder)
    work, library = Path(folder.name) / "work", Path(folder.name) / "library"
    work.mkdir()
    with zipfile.ZipFile(io.BytesIO(base64.b64decode(libraries))) as archive:
        archive.extractall(library)
    os.chdir(work)
    channel = Questions(question, key, Path(folder.name))
    _make_ready(channel, str(library), memory, threads)


_made: list[tempfile.TemporaryDirectory[str]] = []
"""Folders that go when the kernel ends."""


def _make_ready(channel: Channel, library: str, memory: int | None, threads: int | None) -> None:
    import inchworm.notebook

    if threads is not None:
        os.sched_setaffinity(0, sorted(os.sched_getaffinity(0))[:threads])
    sys.path.insert(0, library)
    inchworm.notebook.env = RunSurroundings(channel)  # type: ignore[assignment]
    if memory is not None:
        import resource

        resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))


def _refuse(*_: object, **__: object) -> NoReturn:
    raise RuntimeError("nobody is there to answer: a run has no input")
