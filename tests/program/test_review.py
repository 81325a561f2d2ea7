"""A draft as it is shown to somebody who has to say yes or no."""

from __future__ import annotations

import html.parser
from pathlib import Path

import pytest

from tests.driver import Program
from tests.once import Once


class Page(html.parser.HTMLParser):
    """What a page says, and what it would fetch."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.headings: list[str] = []
        self.words: list[str] = []
        self.fetched: list[str] = []
        self.scripts = 0
        self._open: list[str] = []
        self.feed(text)
        self.close()
        assert not [tag for tag in self._open if tag not in _EMPTY], self._open

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Note what it would fetch."""
        if tag not in _EMPTY:
            self._open.append(tag)
        self.scripts += tag == "script"
        self.fetched += [value or "" for name, value in attrs if name in {"src", "href", "action"}]

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """A tag that is closed at once."""

    def handle_endtag(self, tag: str) -> None:
        """Tags close in the order in which they came."""
        assert self._open.pop() == tag

    def handle_data(self, data: str) -> None:
        """The words, and those of headings by themselves."""
        if self._open and self._open[-1] in {"h1", "h2"}:
            self.headings.append(data.strip())
        self.words.append(data)

    @property
    def text(self) -> str:
        """All words, in one line."""
        return " ".join(" ".join(self.words).split())


_EMPTY = frozenset({"meta", "col", "br"})


@pytest.fixture
def drafted(once: Once, released: Program) -> Program:
    """Riverwatch, with a draft of 1.4.1 in front of production: P6."""
    once(_draft, released)
    return released


def _draft(program: Program, url: str) -> None:
    program.promote("riverwatch-1.4.0", "prod")
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    program.write(
        "schemas/ops/migrations/0004_note.sql", "ALTER TABLE ops.threshold ADD COLUMN note TEXT;"
    )
    bundle = program.release("1.4.1")
    for environment in ("dev", "test"):
        program.promote(bundle, environment)
    with (program.folder / "environments/prod.toml").open("a") as file:
        file.write('\n[entry]\napprovals = 1\nby = ["Mira <Fen>"]\n')
    program("promote", bundle, "--to", "prod", "--draft")


def test_the_terminal_shows_what_one_needs(drafted: Program) -> None:
    """What runs, what would, what is missing, what differs, and what happened elsewhere."""
    shown = drafted("review", "P6").text
    for needed in (
        "P6 riverwatch-1.4.1 into prod (protected)",
        "It may not run yet: 1 approval by Mira <Fen>",
        "riverwatch-1.4.0 runs here",
        "content changed",
        "+ 1.0 * mean_cm - lag",
        "affects further: consumer:flood_map",
        "test P5 promotion done",
        "inchworm approve P6",
    ):
        assert needed in shown


def test_the_page_stands_by_itself(drafted: Program, tmp_path: Path) -> None:
    """Nothing is fetched, nothing runs in it, and what comes from outside is text."""
    file = tmp_path / "review.html"
    assert "It may not run yet" in drafted("review", "P6", "--html", str(file)).out
    page = Page(file.read_text())
    assert (page.fetched, page.scripts) == ([], 0)
    assert page.headings[1:] == [
        "Before it may run",
        "What happens",
        "What changes for those who rely on it",
        "Side by side with what is live",
        "Lineage",
        "Values",
        "Findings",
        "What happened to this bundle elsewhere",
        "The statements that run",
    ]
    for needed in (
        "riverwatch-1.4.1 into prod",
        "May approve Mira <Fen>, but no author of the changes",
        "schemas/ops/migrations/0004_note.sql new",
        "ALTER TABLE ops.threshold ADD COLUMN note TEXT",
        'CREATE TABLE "hydro"."level_trend__beside" AS SELECT',
        "data checks: 2 done",
        "flow:publish_warnings",
    ):
        assert needed in page.text, page.text


def test_it_is_read_by_other_programs_too(drafted: Program) -> None:
    """As a comment, as a script, and as JSON."""
    comment = drafted("review", "P6", "--markdown").out
    assert (
        "| **missing** | 1 approval by Mira &lt;Fen&gt;, not by an author of the changes |"
        in comment
    )
    assert "````diff" in comment
    script = drafted("review", "P6", "--sql").out
    assert "-- 3. run schema:ops 0004_note\nALTER TABLE ops.threshold ADD COLUMN note" in script
    document = drafted("review", "P6", "--json").json
    assert document["entry"][0]["met"] is False
    assert "consumer:flood_map" in document["affected"]
    assert any("level_trend__beside" in s for each in document["statements"].values() for s in each)


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="there is no device that is full")
def test_a_full_disk_is_said(drafted: Program) -> None:
    for command in (("review", "P6"), ("history",)):
        said = drafted(*command, "--html", "/dev/full", code=1).text
        assert "a file cannot be written: No space left on device. next Make room" in said


def test_it_changes_nothing(drafted: Program) -> None:
    """The draft can still be carried out."""
    drafted("review", "P6")
    drafted("approve", "P6", environ={"INCHWORM_USER": "Mira <Fen>"})
    assert "It may run." in drafted("review", "P6").text
    assert drafted("promote", "P6", "--yes", "--json").json["state"] == "done"
    over = drafted("review", "P6")
    assert "It is done." in over.text
    assert "they would be others today" in drafted("review", "P6", "--sql").err


def test_a_first_promotion_and_a_rollback_are_reviewed(released: Program, tmp_path: Path) -> None:
    """Where nothing ran before, everything is new; going back says what it undoes."""
    program, file = released, tmp_path / "review.html"
    program("promote", "riverwatch-1.4.0", "--to", "prod", "--draft")
    program("review", "P3", "--html", str(file))
    first = Page(file.read_text())
    assert "Runs there now nothing was promoted there yet" in first.text
    assert "35 steps" in first.text
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    program.promote(program.release("1.4.1"), "dev")
    program("rollback", "dev", "--draft", "--because", "too coarse")
    program("review", "P5", "--html", str(file))
    back = Page(file.read_text())
    assert "riverwatch-1.4.0 back into dev" in back.headings[0]
    assert "undoes P4, because too coarse" in back.text


def test_there_may_be_nothing_to_review(plain: Program) -> None:
    """No such promotion; or its bundle is gone."""
    assert "There is no promotion P1" in plain("review", "P1", code=2).text
    plain("promote", plain.pack(), "--to", "dev", "--draft")
    for bundle in (plain.folder / ".inchworm/bundles").glob("*.zip"):
        bundle.unlink()
    assert "There is no bundle" in plain("review", "P1", code=2).text
