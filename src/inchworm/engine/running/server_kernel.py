"""A kernel at a Jupyter Server for one notebook: started there, asked cell by cell, and ended.

What the notebook asks for comes as the kernel's questions, on the channel on which ``input()`` asks
a person; they begin with a key that only this kernel was told.
"""

from __future__ import annotations

import base64
import io
import json
import secrets
import threading
import zipfile
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path
from typing import Any

from nbclient.exceptions import CellExecutionComplete
from nbformat import NotebookNode

from inchworm import __version__
from inchworm.core.errors import TargetError
from inchworm.core.running.run import Limits
from inchworm.engine.running.bridge import LARGEST_REQUEST, Bridge
from inchworm.engine.running.kernel import BoundedClient, Executed, failed
from inchworm.targets.jupyter_server import JupyterServer, KernelSession
from inchworm.targets.kernel_channels import PIECE, KernelChannels, Message

_LOOKS_AGAIN = 1.0
"""Seconds between two looks at whether somebody has ended the kernel."""

_ENDED = frozenset({"dead", "restarting", "terminating"})
"""States of a kernel that has died; a server starts most of them again, without what they knew."""

_PREPARE = """
from inchworm.notebook_run import prepare_at_server as _prepare
_prepare({version!r}, {memory!r}, {threads!r}, {libraries!r}, {key!r})
del _prepare
"""


class ServerKernel:
    """Executes one notebook.

    Args:
        server: where.
        run: the run's id.
        libraries: the files of the project's libraries, by their path in a folder of libraries.
        limits: the memory and processors that it may take, of the server's machine.
        bridge: answers what the notebook asks.
        beside_others: whether other runs may be at work, on other notebooks.
    """

    def __init__(
        self,
        server: JupyterServer,
        run: str,
        libraries: Mapping[str, bytes],
        limits: Limits,
        bridge: Bridge,
        *,
        beside_others: bool,
    ) -> None:
        self._server = server
        self._beside_others = beside_others
        self._run = run
        self._libraries = libraries
        self._limits = limits
        self._bridge = bridge
        self._session: KernelSession | None = None
        self._is_killed = threading.Event()

    def execute(self, notebook: NotebookNode) -> Executed:
        """Execute the cells in their order, until one fails.

        Raises:
            TargetError: when the server cannot be reached, or its kernel is not fit for it.
        """
        self._session = self._server.start_kernel(
            self._run, self._bridge.part.name, beside_others=self._beside_others
        )
        try:
            with closing(self._server.channels(self._session)) as channels:
                cells = _Cells(channels, self._bridge, self._is_killed)
                self._prepare(cells)
                return cells.execute(notebook)
        except _Died:
            error = "it was ended" if self._is_killed.is_set() else "its kernel died"
            return Executed(notebook=notebook, is_dead=True, failed=cells.at_work, error=error)
        finally:
            self._server.end_kernel(self._session)

    def kill(self) -> None:
        """Have the kernel end. Called from any thread."""
        self._is_killed.set()

    def _prepare(self, cells: _Cells) -> None:
        """Limit the kernel, and tell it how to ask."""
        archive = io.BytesIO()
        with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as libraries:
            for name, content in self._libraries.items():
                libraries.writestr(name, content)
        code = _PREPARE.format(
            version=__version__,
            memory=self._limits.memory,
            threads=self._limits.threads,
            libraries=base64.b64encode(archive.getvalue()).decode(),
            key=cells.key,
        )
        reply = cells.run(code)
        if reply["status"] != "ok":
            raise TargetError(
                f"the kernel {self._server.kernel} of {self._server.name} cannot be made ready: "
                f"{reply.get('ename')}: {reply.get('evalue')}.",
                next=f'Install inchworm=={__version__} in its environment: pip install "inchworm".',
            )


class _Died(Exception):
    """The kernel is not there any more, or is not to be."""


class _Cells:
    """Runs code in the kernel, answers what it asks, and keeps what it says.

    Args:
        channels: of the kernel.
        bridge: answers what the notebook asks.
        is_killed: set when somebody ends it.
    """

    def __init__(
        self, channels: KernelChannels, bridge: Bridge, is_killed: threading.Event
    ) -> None:
        self.key = secrets.token_hex(16)
        self.at_work: int | None = None
        """The number of the cell at work, from 1."""
        self._channels = channels
        self._is_killed = is_killed
        self._questions = _Questions(bridge)

    def execute(self, notebook: NotebookNode) -> Executed:
        """Execute the cells in their order, until one fails."""
        client = BoundedClient(notebook, record_timing=False)
        for number, cell in enumerate(notebook.cells, start=1):
            if cell.cell_type != "code" or not cell.source.strip():
                continue
            self.at_work = number
            reply = self.run(cell.source, client, number - 1)
            is_expected = "raises-exception" in cell.metadata.get("tags", ())
            if reply["status"] != "ok" and not is_expected:
                return failed(notebook)
        return Executed(notebook=notebook)

    def run(
        self, code: str, client: BoundedClient | None = None, index: int = 0
    ) -> Mapping[str, Any]:
        """Run code; what the kernel replies, once it has said all that there is to say.

        Args:
            code: what to run.
            client: takes what is said; without one it is not kept.
            index: of the cell that says it.

        Raises:
            TargetError: when the connection has been cut.
        """
        content = {
            "code": code,
            "silent": client is None,
            "store_history": client is not None,
            "user_expressions": {},
            "allow_stdin": True,
            "stop_on_error": True,
        }
        asked = self._channels.send("shell", "execute_request", content)
        reply: Mapping[str, Any] | None = None
        is_idle = False
        while reply is None or not is_idle:
            message = self._next()
            if message["channel"] == "stdin":
                self._answer(message)
            elif message["parent_header"].get("msg_id") != asked:
                continue
            elif message["channel"] == "iopub":
                is_idle = self._said(message, client, index) or is_idle
            elif message["header"]["msg_type"] == "execute_reply":
                reply = message["content"]
        return reply

    def _next(self) -> Message:
        """The next message.

        Raises:
            _Died: when there is none to come.
        """
        while True:
            message = self._channels.receive(_LOOKS_AGAIN)
            if self._is_killed.is_set():
                raise _Died
            if message is None:
                continue
            if message["content"].get("execution_state") in _ENDED:
                raise _Died
            return message

    @staticmethod
    def _said(message: Message, client: BoundedClient | None, index: int) -> bool:
        """Keep what was said; whether that is the end of it."""
        if client is None:
            return bool(message["content"].get("execution_state") == "idle")
        try:
            whole = {**message, "msg_type": message["header"]["msg_type"]}
            client.process_message(whole, client.nb.cells[index], index)
        except CellExecutionComplete:
            return True
        return False

    def _answer(self, message: Message) -> None:
        """Answer a question; one that is not ours is none that anybody could answer."""
        prompt = str(message["content"].get("prompt", ""))
        ours = prompt.startswith(self.key)
        value = self._questions.answer(json.loads(prompt[len(self.key) :])) if ours else ""
        self._channels.send("stdin", "input_reply", {"value": value}, message["header"])


class _Questions:
    """Puts the pieces together that the other side sends, and sends the answers in pieces.

    Args:
        bridge: answers what the notebook asks.
    """

    def __init__(self, bridge: Bridge) -> None:
        self._bridge = bridge
        self._request = io.BytesIO()
        self._answer = io.BytesIO()

    def answer(self, question: Mapping[str, Any]) -> str:
        """The answer to one piece."""
        if question.get("go_on"):
            piece = self._answer.read(PIECE)
            more = self._answer.tell() < self._answer.getbuffer().nbytes
            return json.dumps({"data": base64.b64encode(piece).decode(), "more": more})
        data = base64.b64decode(question["data"])
        if question["name"] != "ask":
            with (self._bridge.folder / Path(str(question["name"])).name).open("ab") as file:
                file.write(data)
            return ""
        self._request.write(data)
        if self._request.tell() > LARGEST_REQUEST or not question["more"]:
            self._answer = io.BytesIO(self._bridge.answer(self._request.getvalue()))
            self._request = io.BytesIO()
        return ""
