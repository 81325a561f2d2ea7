"""Whoever had a hand in commits, in random histories, held against a plain model."""

from __future__ import annotations

import random
import subprocess
from pathlib import Path

import pytest

from inchworm.project.git import contributors

PEOPLE = ("Ann", "Bea", "Cid", "Dan", "Eve")
FILES = ("models/a.sql", "models/b.sql", "models/c.sql")


@pytest.mark.parametrize("seed", range(4))
def test_contributors_are_those_of_a_plain_model(tmp_path: Path, seed: int) -> None:
    """Authors, committers and co-authors of every commit behind each base, and of new files."""
    chance = random.Random(seed)
    git(tmp_path, "init", "--quiet", "--initial-branch", "main")
    (tmp_path / "models").mkdir()
    (tmp_path / ".mailmap").write_text("".join(f"Nobody <n@x> <{p}@x>\n" for p in PEOPLE))
    history: list[tuple[str, set[str], set[str]]] = []
    for number in range(12):
        author, committer = chance.choice(PEOPLE), chance.choice(PEOPLE)
        helpers = chance.sample(PEOPLE, chance.randrange(3))
        touched = set(chance.sample(FILES, chance.randrange(1, 3)))
        for path in touched:
            (tmp_path / path).write_text(f"{number}\n")
        trailers = "".join(f"Co-authored-by: {each} <{each}@x>\n" for each in helpers)
        git(tmp_path, "add", "--all")
        git(
            tmp_path,
            *("-c", f"user.name={committer}", "-c", f"user.email={committer}@x"),
            *("commit", "--quiet", "--author", f"{author} <{author}@x>"),
            *("--message", f"Change {number}\n\n{trailers}"),
        )
        commit = git(tmp_path, "rev-parse", "HEAD")
        history.append((commit, {author, committer, *helpers}, touched))
    for _ in range(6):
        last = chance.randrange(1, len(history))
        bases = chance.sample(range(len(history)), chance.randrange(1, 4))  # some lie ahead
        between = range(min(*bases, last) + 1, max(*bases, last) + 1)
        new = chance.sample(FILES, chance.randrange(2))
        found = contributors(tmp_path, history[last][0], [history[base][0] for base in bases], new)
        hands = {person for number in between for person in history[number][1]}
        hands |= {p for _, people, files in history[: last + 1] if files & {*new} for p in people}
        assert {name for name in found.names if "@" not in name} == hands
        assert found.names >= {f"{person}@x" for person in hands}
        assert found.lacking == ""


def git(folder: Path, *arguments: str) -> str:
    """What git says."""
    done = subprocess.run(
        ["git", "-c", "user.name=t", "-c", "user.email=t@x", *arguments],
        cwd=folder,
        capture_output=True,
        text=True,
        check=True,
    )
    return done.stdout.strip()
