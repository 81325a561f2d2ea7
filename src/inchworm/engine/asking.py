"""Asking commands of one's own whether a promotion may run."""

from __future__ import annotations

import shlex
import subprocess
from collections.abc import Mapping
from pathlib import Path

from inchworm.core.entry.judging import Answer
from inchworm.targets.processes import Descendants

_LONGEST_TEXT = 2_000
"""Characters of an answer that are kept."""


def ask(
    command: str, document: str, folder: Path, environ: Mapping[str, str], seconds: float
) -> Answer:
    """Run a command in the project's folder; it gets the draft as JSON on its standard input.

    What it started is ended with it when it takes too long.

    Args:
        command: its words, quoted as in a shell; no shell runs it.
        document: ``inchworm/promotion/1``.
        folder: where it runs.
        environ: its environment variables.
        seconds: how long it may take.
    """
    descendants = Descendants()
    try:
        asked = subprocess.Popen(
            shlex.split(command),
            cwd=folder,
            env={**environ, **descendants.environ},
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            errors="replace",
            start_new_session=True,  # Ctrl-C at a terminal is for us
        )
    except (OSError, ValueError) as error:
        return Answer(code=None, text=f"it cannot be started: {error}")
    try:
        text, _ = asked.communicate(document, seconds)
    except subprocess.TimeoutExpired:
        left = descendants.end(asked.pid)
        if not left:  # or what is left could keep its output open for ever
            asked.communicate()
        still = f"; these could not be ended: {', '.join(left)}" if left else ""
        return Answer(code=None, text=f"no answer within {seconds:g} s{still}")
    return Answer(code=asked.returncode, text=" ".join(text[:_LONGEST_TEXT].split()))
