"""Processes that a program of others has started are ended with it, wherever they went."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import psutil
import pytest

from inchworm.engine.asking import ask
from inchworm.targets.processes import Descendants

LEAVES = """
import os, subprocess, sys
env = {} if "bare" in sys.argv else None
sleeper = subprocess.Popen(["sleep", "600"], start_new_session=True, env=env)
print(sleeper.pid, flush=True)
if "stays" in sys.argv:
    sleeper.wait()
"""
"""Starts a process in a session of its own, and ends before it, or stays."""


@pytest.mark.parametrize("how", [["bare", "stays"], ["stays"], []])
def test_whoever_left_its_session_is_ended(how: list[str]) -> None:
    """With a parent that is there or gone, and with or without what it had from that."""
    descendants = Descendants()
    environ = {**os.environ, **descendants.environ}
    with subprocess.Popen(
        [sys.executable, "-c", LEAVES, *how], env=environ, stdout=subprocess.PIPE, text=True
    ) as first:
        assert first.stdout is not None
        sleeper = int(first.stdout.readline())
        if not how:
            first.wait()
        assert psutil.pid_exists(sleeper)
        assert descendants.end(first.pid) == []
    assert not psutil.pid_exists(sleeper) or psutil.Process(sleeper).status() == "zombie"


def test_others_stay() -> None:
    with subprocess.Popen(["sleep", "600"]) as other:
        assert Descendants().end(None) == []
        assert other.poll() is None
        other.kill()


def test_a_command_that_takes_too_long_keeps_nobody_waiting() -> None:
    """Though a process that it started holds its output open."""
    words = f"{sys.executable} -c '{LEAVES}' stays"
    answer = ask(words, "{}", Path(), os.environ, 1.5)
    assert answer.text == "no answer within 1.5 s"
