"""Executed notebooks as pages."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from inchworm.core.errors import UsageError
from inchworm.safe_files import write_output


def write_notebook(content: bytes, file: Path) -> None:
    """Write an executed notebook as one page, with its pictures in it.

    Raises:
        UsageError: when nbconvert is not installed.
    """
    try:
        from nbconvert import HTMLExporter
    except ImportError as error:
        raise UsageError(
            "Pages of notebooks need a package that is not installed.",
            next='pip install "inchworm[pages]"',
        ) from error
    import nbformat

    notebook = nbformat.reads(content.decode(), as_version=4)
    exporter: Any = HTMLExporter
    page, _ = exporter(**_NOTHING_FROM_ELSEWHERE).from_notebook_node(notebook)
    write_output(file, page.encode())


_NOTHING_FROM_ELSEWHERE = {
    "mathjax_url": "",
    "mermaid_js_url": "",
    "mermaid_layout_elk_js_url": "",
    "require_js_url": "",
    "widget_renderer_url": "",
}
"""A page that is kept must not ask other servers for scripts."""
