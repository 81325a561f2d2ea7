"""A Jupyter Server: takes notebooks, and starts kernels, over its REST API.

The API is that of Jupyter Server 2: ``/api/contents`` for files, ``/api/sessions`` for kernels, and
a WebSocket for each kernel (https://jupyter-server.readthedocs.io/en/latest/developers/rest-api.html).
"""

from __future__ import annotations

import json
import uuid
from collections.abc import Iterator, Mapping
from contextlib import closing
from http import HTTPStatus
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from msgspec import Struct

from inchworm import __version__
from inchworm.core.errors import TargetError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parts import digest_of
from inchworm.core.promotion.composition import LiveItem
from inchworm.core.rendered import canonical
from inchworm.kinds.registry import UNFIT
from inchworm.targets.http_client import Answer, http_client
from inchworm.targets.python_packages import Installed
from inchworm.targets.secret import Secret

if TYPE_CHECKING:
    from inchworm.targets.kernel_channels import KernelChannels

_SCHEME = "jupyter+"
_SUFFIX = ".ipynb"

_OURS = "inchworm"
"""The key of a notebook's metadata with what a promotion put there beside its cells."""

_ENDS_WITHIN = 20.0
"""Seconds in which a server must be able to end a kernel."""

_ASKS = "inchworm-asks-"
"""How the paths of sessions begin in which nothing but the environment is asked."""

_ANSWERS_WITHIN = 60.0
"""Seconds in which a kernel must be able to say what is installed."""

_LOOK = """
def _inchworm():
    import json, os, pkgutil, platform, sys
    from importlib.metadata import distributions
    packages = [(d.metadata["Name"], d.version) for d in distributions() if d.metadata["Name"]]
    markers = {
        "implementation_name": sys.implementation.name,
        "os_name": os.name,
        "platform_machine": platform.machine(),
        "platform_python_implementation": platform.python_implementation(),
        "platform_system": platform.system(),
        "python_full_version": platform.python_version(),
        "python_version": ".".join(platform.python_version_tuple()[:2]),
        "sys_platform": sys.platform,
    }
    modules = {module.name for module in pkgutil.iter_modules()}
    modules.update(sys.builtin_module_names, getattr(sys, "stdlib_module_names", ()))
    return json.dumps({"packages": packages, "markers": markers, "modules": sorted(modules)})
_inchworm = _inchworm()
"""
"""The program that a kernel is asked to run; it must not need Inchworm there."""

_RUN = "inchworm-run-"
"""How the paths of sessions begin that runs have opened. A server gives whoever asks for a path
that it has the session there, so each connection has a mark of its own in its paths: runs of
different ledgers have the same ids."""


class KernelSession(Struct, frozen=True, kw_only=True):
    """A kernel that a run has had started.

    Attributes:
        id: of the session; when it ends, its kernel ends.
        kernel: the id of its kernel.
    """

    id: str
    kernel: str


class JupyterServer:
    """A server, and one folder in it.

    Args:
        url: its address, ``jupyter+http://...`` or ``jupyter+https://...``.
        folder: where the notebooks are, relative to the folder that the server shows.
        kernel: the kernel specification by which it starts kernels.
        token: that it asks for.

    Raises:
        TargetError: when the address is none of a Jupyter Server.
    """

    def __init__(self, url: str, folder: str, kernel: str, token: Secret | None = None) -> None:
        self._url = url.removeprefix(_SCHEME)
        if not url.startswith(_SCHEME) or not self._url.startswith(("http://", "https://")):
            raise TargetError(
                f"there is no Jupyter Server at {url!r}.",
                next="Write jupyter+https:// and its address, as [notebooks] url.",
            )
        self.name = self._url
        self.kernel = kernel
        self._folder = folder
        self._token = token
        self._client = http_client(self._url, Path(), token)
        self._mark = uuid.uuid4().hex

    # ---- notebooks ----------------------------------------------------------------------------

    def items(self) -> dict[PartId, LiveItem]:
        """All notebooks of the folder, each with the digest of what stands in it now."""
        items = {}
        for name in self._names():
            part = PartId(Kind.NOTEBOOK, name)
            digest = digest_of(canonical(self.document(part)))
            items[part] = LiveItem(part=part, digest=digest)
        return items

    def document(self, part: PartId) -> Mapping[str, Any]:
        """A notebook's cells, and what a promotion put there beside them.

        The folder is open to people: of a file that is no notebook, only that is told.
        """
        answer = self._client.send("GET", self._path(part))
        if answer.status == HTTPStatus.BAD_REQUEST:
            return {"notebook": "what is there cannot be read as a notebook"}
        notebook = self._checked(answer, gone=False).json()["content"]
        metadata = notebook.get("metadata", {})
        cells = [
            {"cell_type": cell["cell_type"], "source": _text(cell["source"])}
            for cell in notebook.get("cells", ())
        ]
        kernel = metadata.get("kernelspec", {}).get("name", "python3")
        content = {"nbformat": 4, "kernel": kernel, "cells": cells}
        return {**metadata.get(_OURS, {}), "notebook": content}

    def put(self, part: PartId, digest: str, document: Mapping[str, Any]) -> None:
        """Put a notebook into the folder, in the place of one that is there."""
        self._make_folders()
        body = {"type": "notebook", "format": "json", "content": _notebook(document)}
        self._request("PUT", self._path(part), body)

    def remove(self, part: PartId) -> None:
        """Remove a notebook if it is there."""
        self._request("DELETE", self._path(part), gone=True)

    def _names(self) -> Iterator[str]:
        answer = self._request("GET", _contents(self._folder), gone=True)
        if answer.status == HTTPStatus.NOT_FOUND:
            return
        for entry in answer.json()["content"]:
            name = str(entry["name"]).removesuffix(_SUFFIX)
            if entry["type"] == "notebook" and not UNFIT.search(name):  # others are no part's
                yield name

    def _make_folders(self) -> None:
        """Make the folder, and those that it is in, where they are missing."""
        names = self._folder.split("/")
        for depth in range(1, len(names) + 1):
            path = _contents("/".join(names[:depth]))
            answer = self._client.send("GET", path, query={"content": "0"})
            if answer.status == HTTPStatus.NOT_FOUND:
                self._request("PUT", path, {"type": "directory"})

    def _path(self, part: PartId) -> str:
        return _contents(f"{self._folder}/{part.name}{_SUFFIX}")

    # ---- kernels ------------------------------------------------------------------------------

    def start_kernel(self, run: str, notebook: str, *, beside_others: bool) -> KernelSession:
        """Have a kernel started for a notebook, and those ended that other runs have left.

        Args:
            run: the run's id.
            notebook: its name.
            beside_others: whether other runs may be at work, on other notebooks.
        """
        of_runs = f"{self._folder}/{_RUN}"
        own = f"{of_runs}{self._mark}-"
        for session in self._request("GET", "/api/sessions").json():
            path = str(session.get("path", ""))
            if not path.startswith(of_runs) or path.startswith(own):
                continue
            if not beside_others or path.removeprefix(of_runs).partition("-")[2] == notebook:
                self.end_kernel(KernelSession(id=session["id"], kernel=session["kernel"]["id"]))
        body = {
            "path": f"{own}{notebook}",
            "name": f"{run} {notebook}",
            "type": "console",
            "kernel": {"name": self.kernel},
        }
        session = self._request("POST", "/api/sessions", body).json()
        return KernelSession(id=session["id"], kernel=session["kernel"]["id"])

    def end_kernel(self, session: KernelSession) -> None:
        """End a kernel, if it has not ended.

        A server that is about to start a kernel again that died cannot end it yet, and says so with
        an error of its own.
        """
        from tenacity import Retrying, retry_if_result, stop_after_delay, wait_fixed

        path = f"/api/sessions/{quote(session.id, safe='')}"
        trying = Retrying(
            retry=retry_if_result(lambda a: a.status >= HTTPStatus.INTERNAL_SERVER_ERROR),
            wait=wait_fixed(0.5),
            stop=stop_after_delay(_ENDS_WITHIN),
            retry_error_callback=lambda state: state.outcome.result() if state.outcome else None,
        )
        self._checked(trying(self._client.send, "DELETE", path), gone=True)

    def installed(self) -> Installed:
        """What is installed in the environment of the kernel; one is started to be asked.

        Raises:
            TargetError: when the server cannot be reached, or the kernel does not answer.
        """
        body = {
            "path": f"{self._folder}/{_ASKS}{uuid.uuid4().hex}",
            "name": "inchworm",
            "type": "console",
            "kernel": {"name": self.kernel},
        }
        started = self._request("POST", "/api/sessions", body).json()
        session = KernelSession(id=started["id"], kernel=started["kernel"]["id"])
        try:
            with closing(self.channels(session)) as channels:
                answer = json.loads(channels.evaluate(_LOOK, "_inchworm", _ANSWERS_WITHIN))
        finally:
            self.end_kernel(session)
        from packaging.utils import canonicalize_name

        return Installed(
            where=f"the kernel {self.kernel} of {self.name}",
            packages={canonicalize_name(name): version for name, version in answer["packages"]},
            markers=answer["markers"],
            modules=frozenset(answer["modules"]),
        )

    def channels(self, session: KernelSession) -> KernelChannels:
        """The channels of a kernel.

        Raises:
            TargetError: when the server cannot be reached.
        """
        from inchworm.targets.kernel_channels import KernelChannels

        path = f"/api/kernels/{quote(session.kernel, safe='')}/channels?session_id={session.id}"
        return KernelChannels("ws" + self._url.removeprefix("http").rstrip("/") + path, self._token)

    def greet(self) -> str:
        """What the server says about itself, after it accepted our token.

        Raises:
            TargetError: when it cannot be reached, refuses us, has no such kernel, or one in which
                runs would fail.
        """
        known = self._request("GET", "/api/kernelspecs").json()["kernelspecs"]
        if self.kernel not in known:
            raise TargetError(
                f"the Jupyter Server {self.name} has no kernel {self.kernel}; it has "
                f"{', '.join(sorted(known)) or 'none'}.",
                next="Write one of those as [notebooks] kernel, or have it installed there.",
            )
        own = self.installed().packages.get("inchworm")
        if own != __version__:
            raise TargetError(
                f"the kernel {self.kernel} of {self.name} has "
                f"{f'Inchworm {own}' if own else 'no Inchworm'}, and runs have {__version__}.",
                next=f"Install it in the kernel's environment: pip install inchworm=={__version__}",
            )
        version = self._request("GET", "/api").json().get("version", "")
        count = sum(1 for _ in self._names())
        return f"Jupyter Server {version}, kernel {self.kernel}, {count} in {self._folder}"

    def close(self) -> None:
        """Let go of the connections."""
        self._client.close()

    def _request(self, method: str, path: str, body: Any = None, *, gone: bool = False) -> Answer:
        """The answer to a request; that there is nothing is one, too, where ``gone`` says so."""
        return self._checked(self._client.send(method, path, body), gone=gone)

    def _checked(self, answer: Answer, *, gone: bool) -> Answer:
        if answer.is_success or (gone and answer.status == HTTPStatus.NOT_FOUND):
            return answer
        try:
            detail = str(answer.json()["message"])
        except (ValueError, KeyError, TypeError):
            detail = HTTPStatus(answer.status).phrase if answer.status in set(HTTPStatus) else ""
        if self._token is not None:  # a server may repeat what it was sent
            detail = self._token.hidden_in(detail)
        raise TargetError(
            f"the Jupyter Server {self.name} says {answer.status}: {detail}",
            next="Check [notebooks] token in the environment file."
            if answer.status in {HTTPStatus.UNAUTHORIZED, HTTPStatus.FORBIDDEN}
            else "Mend the reason, and do it again.",
        )


def _notebook(document: Mapping[str, Any]) -> dict[str, Any]:
    """A notebook document of format 4.4 (whose cells have no ids), as a person can open it."""
    content = document["notebook"]
    kernel = content["kernel"]
    return {
        "nbformat": 4,
        "nbformat_minor": 4,
        "metadata": {
            "kernelspec": {"name": kernel, "display_name": kernel},
            _OURS: {key: value for key, value in document.items() if key != "notebook"},
        },
        "cells": [
            {**cell, "metadata": {}, **_UNRUN.get(cell["cell_type"], {})}
            for cell in content["cells"]
        ],
    }


_UNRUN: Mapping[str, Mapping[str, Any]] = {"code": {"outputs": [], "execution_count": None}}


def _text(source: str | list[str]) -> str:
    return source if isinstance(source, str) else "".join(source)


def _contents(path: str) -> str:
    return "/api/contents/" + quote(path)
