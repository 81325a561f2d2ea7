"""Notebooks: executed in a kernel of their own, with what they store checked and switched over."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path, PurePosixPath

import nbformat
from nbformat import NotebookNode

from inchworm.core.counting import counted
from inchworm.core.errors import InchwormError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.promotion.data_checks import checks_of
from inchworm.core.running.run import Limits
from inchworm.engine.row_checks import judge_table
from inchworm.engine.running.bridge import Bridge
from inchworm.engine.running.failure import StepFailed
from inchworm.engine.running.kernel import Executed, Kernel
from inchworm.engine.running.server_kernel import ServerKernel
from inchworm.engine.running.site import RunSite
from inchworm.engine.running.switching import publish

_MASK = "(secret)"
_LAST_LINES = 12
"""Lines of a traceback that are told."""

_COLOURS = re.compile(r"\x1b\[[0-9;]*m")


def run_notebook(part: PartId, limits: Limits, site: RunSite) -> StepReport:
    """Execute a notebook that is live, keep it with its outputs, and publish what it stored.

    Raises:
        StepFailed: when a cell failed, its kernel died, or the rows that it stored fail a check.
        TargetError: when the database refuses.
    """
    folder = Path(tempfile.mkdtemp(dir=site.context.folder))
    bridge = Bridge(part, site, folder)
    server = site.place.notebooks
    kernel: Kernel | ServerKernel = (
        Kernel(folder, _libraries(site), limits, bridge)
        if server is None
        else ServerKernel(
            server,
            str(site.context.id),
            _libraries(site),
            limits,
            bridge,
            beside_others=site.context.is_shared,
        )
    )
    site.started(kernel.kill)
    try:
        executed = kernel.execute(_without_outputs(site.assembly.parts[part].main.content))
    finally:
        site.ended(kernel.kill)
    log = _masked(_said(executed.notebook), bridge)
    try:
        output = site.context.keep(f"{part.name}.ipynb", _kept(executed.notebook, bridge))
    except InchwormError as error:  # its rows are no worse for it
        output, log = "", f"{log}\nit is not kept: {error}".strip()
    if executed.left:
        log = f"{log}\nthese processes could not be ended: {', '.join(executed.left)}".strip()
    if executed.error:
        raise StepFailed(
            _masked(_failure(executed, limits), bridge),
            next="Nothing that it stored went live.",
            log=_masked(_traceback(executed), bridge) or log,
            output=output,
        )
    checked = _check(bridge, site, log, output)
    publish(list(bridge.stored.values()), site)
    stored = [f"{counted(s.rows, 'row')} of {table}" for table, s in bridge.stored.items()]
    measured = [f"{name} = {value:g}" for name, value in bridge.measures.items()]
    kept_files = [f"kept {name}" for name in bridge.kept]
    return StepReport(
        state=StepState.DONE,
        message="; ".join([*stored, *measured, *kept_files, *checked]),
        rows=sum(s.rows for s in bridge.stored.values()) if bridge.stored else None,
        log=log,
        measures=bridge.measures,
        output=output,
        kept=bridge.kept,
    )


def _libraries(site: RunSite) -> dict[str, bytes]:
    """The files of the bundle's libraries, by their path in a folder that can be imported from."""
    return {
        str(PurePosixPath(file.path).relative_to("library")): file.content
        for part in site.assembly.of_kind(Kind.LIBRARY)
        for file in site.assembly.parts[part].files
    }


def _without_outputs(content: bytes) -> NotebookNode:
    notebook = nbformat.reads(content.decode(), as_version=4)
    for cell in notebook.cells:
        if cell.cell_type == "code":
            cell.outputs, cell.execution_count = [], None
    return notebook


def _kept(notebook: NotebookNode, bridge: Bridge) -> bytes:
    for cell in notebook.cells:
        cell.metadata.pop("characters", None)
    return _masked(nbformat.writes(notebook), bridge).encode()


def _masked(text: str, bridge: Bridge) -> str:
    """A text without the secrets that the notebook was told, also as JSON spells them."""
    for secret in sorted(bridge.revealed, key=len, reverse=True):
        as_json = nbformat.writes(nbformat.v4.new_notebook(metadata={"it": secret}))
        escaped = re.search(r'"it": "(.*)"\n', as_json)
        for form in filter(None, (secret, escaped.group(1) if escaped else "")):
            text = text.replace(form, _MASK)
    return text


def _said(notebook: NotebookNode) -> str:
    """What its cells printed, the last of it."""
    texts = [
        output.text
        for cell in notebook.cells
        for output in cell.get("outputs", ())
        if output.output_type == "stream"
    ]
    return "".join(texts)[-_MOST_LOG:].strip()


_MOST_LOG = 20_000
"""Characters of what a notebook printed that stand in the record; the rest is in the notebook."""


def _failure(executed: Executed, limits: Limits) -> str:
    cell = f" in cell {executed.failed}" if executed.failed is not None else ""
    error = executed.error.splitlines()[0].rstrip(".") if executed.error else ""
    if executed.is_dead:
        memory = f" (it may take {limits.memory:,} bytes of memory)" if limits.memory else ""
        return f"{error}{cell}{memory}."
    line = _failing_line(executed)
    at = f", line {line[0]} ({line[1]})" if line else ""
    memory = (
        f" It may take {limits.memory:,} bytes." if "MemoryError" in error and limits.memory else ""
    )
    return f"failed{cell}{at}: {error}.{memory}"


_AT = re.compile(r"Cell In\[\d+\], line (\d+)")


def _failing_line(executed: Executed) -> tuple[int, str] | None:
    """The number of the line of the cell that failed, and its text."""
    line_numbers = _AT.findall(_traceback(executed, whole=True))
    if not line_numbers or executed.failed is None:
        return None
    number = int(line_numbers[0])
    lines = executed.notebook.cells[executed.failed - 1].source.splitlines()
    return (number, lines[number - 1].strip()) if number <= len(lines) else None


def _traceback(executed: Executed, *, whole: bool = False) -> str:
    if executed.failed is None:
        return ""
    for output in executed.notebook.cells[executed.failed - 1].get("outputs", ()):
        if output.output_type == "error":
            lines = _COLOURS.sub("", "\n".join(output.traceback)).splitlines()
            return "\n".join(lines if whole else lines[-_LAST_LINES:])
    return ""


def _check(bridge: Bridge, site: RunSite, log: str, output: str) -> list[str]:
    """Check that the rows that were stored are unique by their keys; what was checked, in words.

    Raises:
        StepFailed: when they are not.
    """
    checked = []
    for table, stored in bridge.stored.items():
        if not stored.key:
            continue
        staged = site.reading_staged([table])
        with site.database.reading():
            report = judge_table(table, checks_of(table, stored.key, {}), staged)
        if report.state is StepState.FAILED:
            raise StepFailed(
                f"the rows for {table} are not as its key says: {report.message}.",
                next="Nothing that it stored went live.",
                log=log,
                output=output,
            )
        checked.append(f"{table}: {report.message}")
    return checked
