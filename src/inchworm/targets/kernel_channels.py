"""The channels of a kernel at a Jupyter Server, over one WebSocket.

Messages are those of the Jupyter messaging protocol 5
(https://jupyter-client.readthedocs.io/en/stable/messaging.html), as JSON.
"""

from __future__ import annotations

import ast
import datetime as dt
import json
import struct
import time
import uuid
from collections.abc import Mapping
from contextlib import ExitStack
from typing import Any

from inchworm.core.errors import TargetError
from inchworm.targets.secret import Secret

Message = Mapping[str, Any]

PIECE = 3 * 1024 * 1024
"""Bytes that go in one message, of more than that: most servers take 10 MB of text."""

_PROTOCOL = "5.3"
_OPENS_WITHIN = 120.0
"""Seconds that a kernel may take to start and to answer."""


class KernelChannels:
    """Sends messages to one kernel, and receives its messages.

    Args:
        url: the address of the WebSocket.
        token: that the server asks for.

    Raises:
        TargetError: when the server cannot be reached, or the library for it is missing.
    """

    def __init__(self, url: str, token: Secret | None = None) -> None:
        try:
            from websockets.exceptions import WebSocketException
            from websockets.sync.client import connect
        except ModuleNotFoundError as error:
            raise TargetError(
                "notebooks cannot be run at a Jupyter Server here.",
                next='Install what it takes: pip install "inchworm[jupyter]".',
            ) from error
        headers = {"Authorization": f"Bearer {token.for_header()}"} if token is not None else {}
        self._session = uuid.uuid4().hex
        self._open = ExitStack()
        try:
            self._socket = self._open.enter_context(
                connect(
                    url,
                    additional_headers=headers,
                    open_timeout=_OPENS_WITHIN,
                    max_size=None,  # pictures, and the rows that a notebook stores
                    proxy=None,
                )
            )
        except (WebSocketException, OSError) as error:
            raise TargetError(
                f"the kernel cannot be reached: {error}.",
                next="Check that the server is running, and allows WebSockets.",
            ) from error

    def send(
        self,
        channel: str,
        kind: str,
        content: Mapping[str, Any],
        parent: Mapping[str, Any] | None = None,
    ) -> str:
        """Send a message.

        Args:
            channel: ``shell``, ``stdin`` or ``control``.
            kind: its type, such as ``execute_request``.
            content: what its type says.
            parent: the header of the message that it answers.

        Returns:
            The message's id.

        Raises:
            TargetError: when the connection has been cut.
        """
        from websockets.exceptions import ConnectionClosed

        header = {
            "msg_id": uuid.uuid4().hex,
            "session": self._session,
            "username": "inchworm",
            "date": dt.datetime.now(dt.UTC).isoformat(),
            "msg_type": kind,
            "version": _PROTOCOL,
        }
        message = {
            "header": header,
            "parent_header": parent or {},
            "metadata": {},
            "content": content,
            "channel": channel,
            "buffers": [],
        }
        try:
            self._socket.send(json.dumps(message))
        except ConnectionClosed as error:
            raise _cut(error) from error
        return header["msg_id"]

    def receive(self, seconds: float) -> Message | None:
        """The next message; None where none comes in time.

        Raises:
            TargetError: when the connection has been cut.
        """
        from websockets.exceptions import ConnectionClosed

        try:
            frame = self._socket.recv(timeout=seconds)
        except TimeoutError:
            return None
        except ConnectionClosed as error:
            raise _cut(error) from error
        message: Message = json.loads(frame if isinstance(frame, str) else _first_buffer(frame))
        return message

    def evaluate(self, code: str, expression: str, seconds: float) -> str:
        """Run code; the text that an expression is afterwards.

        Args:
            code: what is run.
            expression: what is evaluated; it must be a text.
            seconds: how long that may take.

        Raises:
            TargetError: when it fails, takes longer, or the connection has been cut.
        """
        content = {
            "code": code,
            "silent": False,
            "store_history": False,
            "user_expressions": {"it": expression},
            "allow_stdin": False,
        }
        asked = self.send("shell", "execute_request", content)
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0:
            message = self.receive(left)
            if message is None or message["parent_header"].get("msg_id") != asked:
                continue
            if message["header"]["msg_type"] == "execute_reply":
                reply = message["content"]
                answer = reply.get("user_expressions", {}).get("it", reply)
                if answer["status"] == "ok":
                    return str(ast.literal_eval(answer["data"]["text/plain"]))
                raise TargetError(
                    f"the kernel says: {answer.get('ename')}: {answer.get('evalue')}.",
                    next="Check the kernel's environment.",
                )
        raise TargetError(
            f"the kernel has not answered in {seconds:g} s.",
            next="Check that the server has room for kernels.",
        )

    def close(self) -> None:
        """Let go of the connection."""
        self._open.close()


def _cut(error: Exception) -> TargetError:
    return TargetError(
        f"the connection to the kernel was cut: {error}.",
        next="Check that the server is running, and run it again.",
    )


def _first_buffer(frame: bytes) -> bytes:
    """The JSON of a message that has binary buffers: it is the first of them.

    A frame begins with the number of buffers and where each begins, as big-endian 32-bit numbers.
    """
    (count,) = struct.unpack_from("!I", frame)
    offsets = [*struct.unpack_from(f"!{count}I", frame, 4), len(frame)]
    return frame[offsets[0] : offsets[1]]
