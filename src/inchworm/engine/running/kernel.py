"""A kernel of its own for one notebook: started, limited, and ended with all that it started."""

from __future__ import annotations

import asyncio
import os
import threading
from collections.abc import Callable, Mapping
from contextlib import closing
from pathlib import Path
from queue import Empty
from typing import Any

from msgspec import Struct
from msgspec.structs import replace
from nbclient import NotebookClient
from nbclient.exceptions import CellExecutionError, DeadKernelError
from nbformat import NotebookNode

from inchworm.core.running.run import Limits
from inchworm.engine.running.bridge import Bridge, BridgeSocket
from inchworm.targets.processes import Descendants

_MOST_TEXT = 1_000_000
"""Characters of output that are kept of one cell."""

_PATIENCE = 1.0
"""Seconds between two looks at whether a kernel that does not answer is still there."""

_PASSED_ON = ("PATH", "HOME", "LANG", "LC_ALL", "LC_CTYPE", "TZ", "VIRTUAL_ENV", "PYTHONPATH")
"""Environment variables that a kernel gets; it must not find the secrets of whoever runs it."""

_SILENT = {"PYDEVD_DISABLE_FILE_VALIDATION": "1"}
"""The debugger that a kernel brings along would warn that it cannot see into all modules."""


class Executed(Struct, frozen=True, kw_only=True):
    """A notebook that was executed to its end, or to the cell that failed.

    Attributes:
        notebook: with the outputs of its cells.
        failed: the number of the cell that failed, from 1.
        error: the words of the failure; empty where there was none.
        is_dead: whether the kernel died.
        left: the processes that it started and that could not be ended, each with its name.
    """

    notebook: NotebookNode
    failed: int | None = None
    error: str = ""
    is_dead: bool = False
    left: tuple[str, ...] = ()


class Kernel:
    """Executes one notebook.

    Args:
        folder: a folder that nobody else can look into.
        libraries: the files of the project's libraries, by their path in a folder of libraries.
        limits: the memory and processors that it may take.
        bridge: answers what the notebook asks.
    """

    def __init__(
        self, folder: Path, libraries: Mapping[str, bytes], limits: Limits, bridge: Bridge
    ) -> None:
        self._folder = folder
        self._libraries = libraries
        self._limits = limits
        self._bridge = bridge
        self._first: int | None = None
        self._descendants = Descendants()
        self._is_killed = threading.Event()

    def execute(self, notebook: NotebookNode) -> Executed:
        """Execute the cells in their order, until one fails.

        The client runs in a thread of its own: it would take over the signals of the main one.
        """
        ended: list[Executed | BaseException] = []

        def work() -> None:
            try:
                ended.append(asyncio.run(self._execute(notebook)))
            except BaseException as error:  # raised again where it is waited for
                ended.append(error)

        self._library.mkdir()
        for name, content in self._libraries.items():
            path = self._library / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content)
        with closing(BridgeSocket(self._bridge)) as self._socket:
            thread = threading.Thread(target=work, daemon=True)
            thread.start()
            try:
                thread.join()
            finally:
                left = self.kill()
                thread.join()
        (outcome,) = ended
        if isinstance(outcome, BaseException):
            raise outcome
        return replace(outcome, left=tuple(left))

    @property
    def _library(self) -> Path:
        return self._folder / "library"

    def kill(self) -> list[str]:
        """End the kernel, and every process that it has started; those that are left.

        Called from any thread.
        """
        self._is_killed.set()
        return [] if self._first is None else self._descendants.end(self._first)

    async def _execute(self, notebook: NotebookNode) -> Executed:
        client = BoundedClient(
            notebook,
            kernel_name="python3",
            timeout=None,
            startup_timeout=120,
            ipython_hist_file=":memory:",
            shutdown_kernel="immediate",
        )
        client.create_kernel_manager()
        client.km.transport = "ipc"
        client.km.ip = str(self._folder / "kernel")
        client.km.connection_file = str(self._folder / "connection.json")

        def started() -> None:
            self._first = client.km.provisioner.pid
            if self._is_killed.is_set():
                self.kill()

        async def ready(**_: Any) -> None:
            await self._prepare(client)

        client.started = started
        client.on_notebook_start = ready
        work = self._folder / "work"
        work.mkdir()
        environ = {name: os.environ[name] for name in _PASSED_ON if name in os.environ}
        environ |= {**_SILENT, **self._descendants.environ}
        if self._limits.threads is not None:
            environ |= dict.fromkeys(_THREADS, str(self._limits.threads))
        try:
            await client.async_execute(env=environ, cwd=str(work))
        except CellExecutionError:
            return failed(notebook)
        except (DeadKernelError, RuntimeError):
            if self._is_killed.is_set():
                return Executed(notebook=notebook, is_dead=True, error="it was ended")
            at = client.at_work
            return Executed(notebook=notebook, is_dead=True, failed=at, error="its kernel died")
        return Executed(notebook=notebook)

    async def _prepare(self, client: BoundedClient) -> None:
        """Limit the kernel, and tell it whom to ask; through its own channel, which is signed."""
        code = _PREPARE.format(
            memory=self._limits.memory,
            threads=self._limits.threads,
            library=str(self._library),
            address=self._socket.address,
            key=self._socket.key,
            folder=str(self._bridge.folder),
        )
        assert client.kc is not None
        asked = client.kc.execute(code, silent=True, store_history=False)
        reply: Mapping[str, Any] = {"parent_header": {}}
        while reply["parent_header"].get("msg_id") != asked:
            try:
                reply = await client.kc.get_shell_msg(timeout=_PATIENCE)
            except Empty:
                if self._is_killed.is_set() or not await client.km.is_alive():
                    raise DeadKernelError("Kernel died") from None
        if reply["content"]["status"] != "ok":
            raise RuntimeError(f"the kernel cannot be made ready: {reply['content'].get('evalue')}")


def failed(notebook: NotebookNode) -> Executed:
    """A notebook of which a cell failed: the last one that raised, as others may be meant to."""
    for number, cell in reversed(list(enumerate(notebook.cells, start=1))):
        for output in cell.get("outputs", ()):
            if output.output_type == "error":
                error = f"{output.ename}: {output.evalue}"
                return Executed(notebook=notebook, failed=number, error=error)
    return Executed(notebook=notebook, error="it failed")


_THREADS = ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS")
"""Variables by which libraries for calculations are told how many threads to start."""

_PREPARE = """
from inchworm.notebook_run import prepare as _prepare
_prepare({memory!r}, {threads!r}, {library!r}, {address!r}, {key!r}, {folder!r})
del _prepare
"""


class BoundedClient(NotebookClient):  # type: ignore[misc]
    """A client that keeps a bounded amount of what a cell says, and knows which cell is at work."""

    at_work: int | None = None
    clear_before_next_output = False
    started: Callable[[], None]
    """Called as soon as there is a process, before it answers."""

    def _cleanup_kernel(self) -> None:
        """Nothing: what the client would end at the exit of the process has been killed by then."""

    async def async_start_new_kernel(self, **options: Any) -> None:
        """Start the kernel, and say so."""
        await super().async_start_new_kernel(**options)
        self.started()

    async def async_execute_cell(self, cell: NotebookNode, cell_index: int, **options: Any) -> Any:
        """Execute a cell, and remember its number."""
        self.at_work = cell_index + 1
        return await super().async_execute_cell(cell, cell_index, **options)

    def output(
        self, outs: list[NotebookNode], msg: Mapping[str, Any], display_id: str, cell_index: int
    ) -> Any:
        """Keep an output, unless the cell has said enough."""
        cell = self.nb.cells[cell_index]
        characters = cell.metadata.get("characters", 0)
        content = msg["content"]
        cell.metadata["characters"] = characters + len(str(content))
        if characters + len(str(content)) <= _MOST_TEXT or msg["msg_type"] == "error":
            return super().output(outs, msg, display_id, cell_index)
        if characters <= _MOST_TEXT:
            cut = f"\n... cut off: more than {_MOST_TEXT:,} characters\n"
            text = str(content.get("text", ""))[: _MOST_TEXT - characters]
            stream = {"name": "stdout", "text": text + cut}
            cut_off = {**msg, "msg_type": "stream", "content": stream}
            return super().output(outs, cut_off, display_id, cell_index)
        return None
