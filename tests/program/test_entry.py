"""What an environment demands before a promotion may run there, and who says yes."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from typing import Any

import pytest

from tests.driver import Answer, Program

MIRA = {"INCHWORM_USER": "Mira Fen"}
OLE = {"INCHWORM_USER": "Ole Sund"}


@pytest.fixture
def gate(plain: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Program:
    """A project under git whose development demands one approval; nobody has a key yet."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    plain.git("init", "--quiet")
    demand(plain, "approvals = 1")
    plain.git("add", "--all")
    plain.git("commit", "--quiet", "--message", "First")
    return plain


def demand(program: Program, *lines: str) -> None:
    """What development demands from now on."""
    file = program.folder / "environments/dev.toml"
    before = file.read_text().partition("[entry]")[0]
    file.write_text("\n".join([before.rstrip(), "", "[entry]", *lines, ""]))


def draft(program: Program) -> str:
    """A draft of the tree as it is, committed; the promotion's id."""
    program.git("add", "--all")
    program.git("commit", "--quiet", "--allow-empty", "--message", "More")
    drafted = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json
    return str(drafted["id"])


def promote(program: Program, id_: str, *more: str, code: int = 0) -> Answer:
    """Carry a draft out."""
    return program("promote", id_, "--yes", "--json", *more, code=code)


def entry(answer: Answer) -> dict[str, tuple[bool, str]]:
    """Each condition: whether it is met, and by what."""
    judged = answer.json["entry"]
    return {each["condition"]: (each["met"], each["evidence"]) for each in judged}


def key_of(program: Program, folder: Path, name: str) -> dict[str, str]:
    """Make somebody's key, and put it into people.toml; the environment variables with it."""
    environ = {"INCHWORM_USER": name, "INCHWORM_KEY": str(folder / f"{name}.pem")}
    shown = program("ledger", "key", environ=environ).out
    people = program.folder / "people.toml"
    told = shown[shown.index("[people") :]
    people.write_text((people.read_text() if people.exists() else "") + told)
    return environ


def test_it_waits_until_somebody_has_approved(gate: Program) -> None:
    """Exit code 3, and the ways on; then it runs as it was drafted."""
    id_ = draft(gate)
    waiting = gate("promote", id_, "--yes", code=3)
    assert "1 approval, not by an author of the changes" in waiting.text
    assert f"inchworm approve {id_}" in waiting.text
    approved = gate("approve", id_, "--because", "seen", environ=MIRA)
    assert "not signed: as git says" in approved.text
    document = promote(gate, id_).json
    assert document["state"] == "done"
    (said,) = document["approvals"]
    assert (said["by"], said["because"], said["verdict"]) == ("Mira Fen", "seen", "approved")


def test_a_bundle_is_drafted_and_waits(gate: Program) -> None:
    """What was recorded stays, to be approved."""
    answer = gate.promote(gate.pack(), "dev", code=3)
    assert (answer.json["state"], answer.json["id"]) == ("drafted", "P1")
    assert entry(answer) == {
        "1 approval, not by an author of the changes": (False, "none yet; 1 missing")
    }
    gate("approve", "P1", environ=MIRA)
    assert promote(gate, "P1").json["state"] == "done"


def test_an_author_does_not_approve_their_own_changes(gate: Program) -> None:
    """By the commits since what runs there; not those before."""
    gate("approve", draft(gate), environ=MIRA)
    assert promote(gate, "P1").json["state"] == "done"
    gate.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    gate.git("add", "--all")
    gate.git("-c", "user.name=Mira Fen", "commit", "--quiet", "--message", "Twice", "--no-edit")
    id_ = draft(gate)
    gate("approve", id_, environ=MIRA)
    assert "Mira Fen's does not count: an author of the changes" in promote(gate, id_, code=3).text
    gate("approve", id_, environ=OLE)
    assert promote(gate, id_).json["state"] == "done"


def test_a_signed_approval_is_known_by_its_key(gate: Program, tmp_path: Path) -> None:
    """Whatever name it is said under; without the key it does not count."""
    mira = key_of(gate, tmp_path, "Mira Fen")
    demand(gate, "approvals = 1", "signed = true", 'by = ["Mira Fen"]')
    id_ = draft(gate)
    gate("approve", id_, environ=MIRA)
    assert "people.toml has their key, and it is not signed" in promote(gate, id_, code=3).text
    gate("approve", id_, environ={**mira, "INCHWORM_USER": "somebody"})
    assert promote(gate, id_).json["state"] == "done"
    verified = gate("ledger", "verify", "--json", code=1).json
    assert [each["by"] for each in verified["wrong"]] == ["Mira Fen"]
    assert verified["approvals"] == 2


def test_a_key_that_was_withdrawn_or_that_nobody_knows_counts_for_nothing(
    gate: Program, tmp_path: Path
) -> None:
    """Whether it counts is asked when the promotion begins."""
    mira = key_of(gate, tmp_path, "Mira Fen")
    id_ = draft(gate)
    gate("approve", id_, environ=mira)
    gate.write("people.toml", "")
    unknown = "it is signed with a key that people.toml does not have"
    assert unknown in promote(gate, id_, code=3).text
    assert unknown in gate("ledger", "verify", code=1).text


def test_forged_approvals_do_not_count(gate: Program, tmp_path: Path) -> None:
    """Of another draft, with another reason, signed by somebody else: each is told apart."""
    mira = key_of(gate, tmp_path, "Mira Fen")
    first = draft(gate)
    gate("approve", first, "--because", "seen", environ=mira)
    gate.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    second = draft(gate)
    said = json.loads(exported(gate, "approval")[0])["body"]["approval"]
    for forged, why in (
        (said, "it is of another draft"),
        ({**said, **about(gate, second)}, "what is signed is another statement"),
        ({**said, **about(gate, second), "envelope": {}}, "its signature is missing"),
    ):
        append(gate, second, forged)
        assert why in promote(gate, second, code=3).text
    assert gate("approve", first, environ=mira).code == 0


def about(program: Program, id_: str) -> dict[str, str]:
    """The promotion and the draft's digest, as an approval names them."""
    (drafted,) = (e for e in map(json.loads, exported(program, "drafted")) if e["about"] == id_)
    (started,) = map(json.loads, exported(program, "ledger-started"))
    ledger = started["body"]["ledger"]
    return {"promotion": f"{ledger}:{id_}", "digest": drafted["body"]["draft"]["digest"]}


def exported(program: Program, kind: str) -> list[str]:
    """The entries of a kind, as they are written out."""
    lines = program("ledger", "export").out.splitlines()
    return [line for line in lines if json.loads(line)["kind"] == kind]


def append(program: Program, id_: str, approval: dict[str, Any]) -> None:
    """Write an approval into the ledger by hand, in a chain that fits."""
    from inchworm.core.entry.approvals import Approval
    from inchworm.store.ledger import Ledger
    from inchworm.store.ledgers.sqlite import SqliteLedger

    storage = SqliteLedger(program.folder / ".inchworm/ledger.sqlite")
    ledger = Ledger(storage, now=lambda: "2026-01-01T00:00:00+00:00", by="forger")
    ledger.judge(ledger.promotion(id_).id, Approval.from_json(approval))


def test_a_rejected_draft_is_dropped(gate: Program) -> None:
    """With the reason, which is not optional."""
    id_ = draft(gate)
    assert "needs a reason" in gate("approve", id_, "--reject", code=2).text
    rejected = gate("approve", id_, "--reject", "--because", "too late", "--json", environ=MIRA)
    assert (rejected.json["state"], rejected.json["message"]) == (
        *("dropped", "rejected by Mira Fen: too late"),
    )
    assert "is dropped" in promote(gate, id_, code=2).text
    assert "is dropped" in gate("approve", id_, code=2).text


def test_a_draft_can_be_dropped_and_is_when_another_passes_it(gate: Program) -> None:
    """Then the environment has moved."""
    demand(gate)
    first, second, third = draft(gate), draft(gate), draft(gate)
    assert f"{first} is dropped" in gate("promote", first, "--drop").text
    assert promote(gate, second).json["state"] == "done"
    moved = promote(gate, third, code=4)
    assert f"passed by {second}" in moved.text
    states = {p["id"]: p["state"] for p in gate("history", "--json").json["promotions"]}
    assert states == {first: "dropped", second: "done", third: "dropped"}
    assert f"inchworm rollback {second}" in gate("promote", second, "--drop", code=2).text


def test_an_exception_is_possible_and_seen(gate: Program) -> None:
    """By those who are named, with a reason; until a promotion follows that needs none."""
    demand(gate, "approvals = 1", 'exception = ["Mira Fen"]')
    id_ = draft(gate)
    hurry = ("--exception", "--because", "gauges are down")
    assert (
        "Ole Sund may let nothing into dev"
        in gate("promote", id_, "--yes", *hurry, code=2, environ=OLE).text
    )
    assert "needs a reason" in gate("promote", id_, "--yes", "--exception", code=2).text
    done = gate("promote", id_, "--yes", *hurry, environ=MIRA)
    assert "LET IN BY EXCEPTION, by Mira Fen: gauges are down. Missing: 1 approval" in done.text
    assert "dev: " in gate("status").text
    assert "runs here BY EXCEPTION, by Mira Fen: gauges are down" in gate("status").text
    (read,) = gate("status", "--json").json["environments"]
    assert read["exception"].startswith("by Mira Fen: gauges are down.")
    gate.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    following = draft(gate)
    gate("approve", following, environ=MIRA)
    promote(gate, following)
    assert "EXCEPTION" not in gate("status").text


def test_nothing_enters_by_exception_unless_the_environment_says_who_may(gate: Program) -> None:
    """There is no way around."""
    id_ = draft(gate)
    refused = gate("promote", id_, "--yes", "--exception", "--because", "hurry", code=2)
    assert "dev takes nothing by exception" in refused.text
    assert "environments/dev.toml" in refused.text


def test_a_command_of_ones_own_is_asked(gate: Program) -> None:
    """It gets the draft, and answers with an exit code and a text; it may not take for ever."""
    gate.write(
        "ask.py",
        "import json, sys\ndraft = json.load(sys.stdin)\n"
        "print(draft['promotion'], len(draft['steps']) > 3)\n"
        "sys.exit(0 if open('yes').read() else 4)\n",
    )
    gate.write("yes", "")
    gate.write("slow.py", "import time\ntime.sleep(60)\n")
    demand(gate, 'ask = ["python3 ask.py"]')
    id_ = draft(gate)
    assert entry(promote(gate, id_, code=3)) == {"python3 ask.py": (False, f"{id_} True")}
    demand(gate, 'ask = ["python3 slow.py", "./nowhere"]', 'ask_timeout = "1s"')
    asked = entry(promote(gate, id_, code=3))
    assert asked["python3 slow.py"] == (False, "no answer within 1 s")
    assert "cannot be started" in asked["./nowhere"][1]
    demand(gate, 'ask = ["python3 ask.py"]')
    gate.write("yes", "yes")
    assert promote(gate, id_).json["state"] == "done"


def test_waiting_ends_when_all_is_met_or_the_time_is_over(gate: Program) -> None:
    """The draft stays as it is."""
    gate.write("yes", "")
    gate.write("ask.py", "import pathlib, sys\nsys.exit(not pathlib.Path('yes').read_text())\n")
    gate.write(
        "later.py",
        "import pathlib\nleft = pathlib.Path('left')\n"
        "left.write_text(left.read_text()[1:] if left.exists() else 'x')\n"
        "raise SystemExit(bool(left.read_text()))\n",
    )
    demand(gate, 'ask = ["python3 later.py"]')
    id_ = draft(gate)
    assert promote(gate, id_, "--wait", "30s").json["state"] == "done"
    demand(gate, 'ask = ["python3 ask.py"]')
    gate.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    following = draft(gate)
    assert promote(gate, following, "--wait", "1s", code=3).json["state"] == "drafted"


@pytest.mark.long
def test_production_demands_rest_runs_and_measures(released: Program) -> None:
    """By what test shows, with this bundle."""
    program = released
    with (program.folder / "environments/prod.toml").open("a") as file:
        file.write(
            '\n[entry]\npassed_in = ["test"]\nrested = "1h"\nno_warnings = true\n'
            'ran = ["pipeline:nightly in test"]\n'
            'measures = ["notebook:level_forecast rmse_cm <= 500 in test"]\n'
        )
    answer = program.promote("riverwatch-1.4.0", "prod", code=3)
    judged = entry(answer)
    assert judged["passed in test"][0]
    assert not judged["rested 1h in test"][0]
    ran, measured = "pipeline:nightly ran in test", "notebook:level_forecast rmse_cm <= 500 in test"
    assert (judged[ran][0], judged[measured][0]) == (False, False)
    program("run", "level_forecast", "--in", "test", "--yes")
    program("run", "nightly", "--in", "test", "--yes")
    judged = entry(promote(program, answer.json["id"], code=3))
    assert judged[measured][0], judged
    assert judged[ran] == (True, "R2 succeeded")


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ('closed = ["friday"]', "fri 15:00 - mon 07:00"),
        ('passed_in = ["tset"]', "tset, which is no environment"),
        ('rested = "long"', "is not a duration"),
        ('measures = ["rmse <= 5"]', "is not a measure"),
        ('ran = ["nightly"]', "is not a run"),
        ('timezone = "Europe/Dubln"', "is no time zone"),
        ("approval = 1", "approvals"),
    ],
)
def test_a_condition_that_is_none_is_found_at_check(plain: Program, line: str, why: str) -> None:
    """With its line."""
    demand(plain, line)
    (finding, *_) = plain.findings(code=1)
    assert why in f"{finding['message']} {finding['remedy']}"
    assert finding["file"] == "environments/dev.toml"
    assert finding["line"] is not None


def test_people_are_told_apart(gate: Program) -> None:
    """One key, or one name, is one person's."""
    key = "A" * 43 + "="
    bundle = gate.pack()
    for text, why in (
        (f'[people.a]\nkey = "{key}"\n[people.b]\nkey = "{key}"\n', "b and a have one key"),
        ('[people.a]\nalso = ["x"]\n[people.b]\nalso = ["X"]\n', "b and a have one name"),
        ('[people.a]\nkey = "short"\n', "must be a public Ed25519 key"),
        ("[people.a\n", "people.toml:1"),
    ):
        gate.write("people.toml", text)
        (finding,) = gate.findings(code=1)
        assert (finding["file"], finding["line"] is not None) == ("people.toml", True)
        assert why in f"people.toml:{finding['line']} {finding['message']}"
    assert "people.toml:1" in gate.promote(bundle, "dev", code=1).text


def test_a_key_that_others_can_read_is_not_used(gate: Program, tmp_path: Path) -> None:
    """And none is written over."""
    mira = key_of(gate, tmp_path, "Mira Fen")
    file = Path(mira["INCHWORM_KEY"])
    assert file.stat().st_mode & 0o777 == 0o600
    assert (
        "people.toml has the public key, as that of Mira Fen"
        in gate("ledger", "key", environ=mira).text
    )
    file.chmod(0o644)
    assert "can be read by others" in gate("approve", draft(gate), code=2, environ=mira).text
    file.write_text("nothing")
    file.chmod(0o600)
    assert "is no private key" in gate("ledger", "key", code=2, environ=mira).text


def test_an_altered_ledger_is_named(gate: Program) -> None:
    """By the number of the first entry that does not fit."""
    gate("approve", draft(gate), environ=MIRA)
    verified = gate("ledger", "verify", "--json").json
    assert (verified["wrong"], verified["approvals"]) == ([], 1)
    with sqlite3.connect(gate.folder / ".inchworm/ledger.sqlite") as connection:
        connection.execute("UPDATE entries SET by = 'Ole' WHERE kind = 'approval'")
    number = verified["entries"]
    assert f"entry {number} was altered" in gate("ledger", "verify", code=1).text


def test_what_entered_is_told_with_its_evidence(gate: Program) -> None:
    """In the ledger, and as one page: by what each was let in, and what needs a look."""
    demand(gate, "approvals = 1", 'exception = ["Mira Fen"]')
    gate("approve", draft(gate), "--because", "seen <b>twice</b>", environ=MIRA)
    promote(gate, "P1")
    (judged,) = gate("history", "P1", "--json").json["entry"]
    assert judged == {
        "condition": "1 approval, not by an author of the changes",
        "met": True,
        "evidence": "Mira Fen (as git says)",
    }
    gate.edit("models/report/daily_total.sql", "sum(amount) AS", "2 * sum(amount) AS")
    id_ = draft(gate)
    gate("promote", id_, "--yes", "--exception", "--because", "gauges are down", environ=MIRA)
    shown = gate("history", id_).text
    assert "missing 1 approval, not by an author of the changes: none yet; 1 missing" in shown
    assert "let in by exception, by Mira Fen: gauges are down" in shown
    gate("rollback", id_, "--because", "wrong", "--yes", code=3)

    gate("history", "--to", "dev", "--html", "audit.html")
    page = (gate.folder / "audit.html").read_text()
    assert "2 promotions: 2 done" in page
    assert "1 of them needs a look" in page
    assert "by exception, by Mira Fen: gauges are down" in page
    assert "seen &lt;b&gt;twice&lt;/b&gt;" in page
    assert "http" not in page.replace("http-equiv", ""), "it asks nobody for anything"
    gate("history", "--since", "2030-01-01", "--html", "later.html")
    assert "Nothing entered in this period" in (gate.folder / "later.html").read_text()
    gate("history", "--picture", "promotions.svg")
    assert "<svg" in (gate.folder / "promotions.svg").read_text()
    gate("history", "--picture", "promotions.gif", code=2)
    gate("history", "P1", "--picture", "promotions.svg", code=2)
