"""A repository is data until its user says otherwise."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest

from inchworm.cli.effects import EFFECTS, NEEDS_TRUST, Effect, table
from inchworm.cli.main import SECTIONS
from inchworm.core.errors import NotAllowed, NotTrusted
from inchworm.core.trust import Trust, destination_of, is_on_this_machine
from inchworm.project.git import commit_has, contributors, files_at, read_state, user_name
from tests.driver import Program
from tests.forked import Started
from tests.once import DEV, SQLITE

ROOT = Path(__file__).parents[2]

WATCH = """
import json, os, sys
ROOT, CONFIG = {root!r}, {config!r}
seen = set()

def kind(path):
    path = os.path.abspath(os.fsdecode(path))
    if path.startswith(CONFIG):
        return "writes your folder"
    if not path.startswith(ROOT + os.sep):
        known = ("/tmp/", "/dev/", "/proc/", os.environ.get("TMPDIR", "/tmp") + "/")
        return None if path.startswith(known) else "writes outside: " + path
    inside = path[len(ROOT) + 1:]
    if inside.startswith(".inchworm/sim"):
        return "reaches environments"
    if inside.startswith((".inchworm/ledger", ".inchworm/bundles")):
        return "reaches ledger and bundles"
    if inside.split(os.sep)[0] == ".inchworm":
        return "writes .inchworm"
    if inside.startswith("data"):
        return "reaches environments"
    return "writes a file" if inside.startswith("out.") else "writes the tree"

def hook(event, given):
    effect = None
    if event == "open" and isinstance(given[0], (str, bytes)):
        flags = given[2] or 0
        if flags & (os.O_WRONLY | os.O_RDWR | os.O_CREAT | os.O_TRUNC):
            effect = kind(given[0]) if os.path.isabs(given[0]) else None
    elif event in ("os.remove", "os.truncate", "os.chmod", "os.symlink", "os.link"):
        path = given[0]
        effect = kind(path) if isinstance(path, str) and os.path.isabs(path) else None
    elif event == "subprocess.Popen":
        program = os.path.basename(str(given[0]))
        effect = "asks git" if program == "git" else "starts programs"
        if list(given[1]) == ["file", "-b", os.path.realpath(sys.executable)]:
            effect = None  # croniter asks the standard library whether Python has 32 bits
    elif event in ("os.system", "os.exec", "os.posix_spawn"):
        effect = "starts programs"
    elif event == "socket.connect":
        effect = "reaches environments"
    elif event == "sqlite3.connect":
        name = str(given[0])
        if name.startswith("file:"):
            name = name[5:].split("?")[0].replace("///", "/")
        if ":memory:" not in name and name:
            effect = kind(name)
    elif event == "exec":
        file = getattr(given[0], "co_filename", "")
        if file.startswith(ROOT + os.sep):
            effect = "runs the project's code"
    if effect:
        seen.add(effect)

from inchworm.cli.main import main
sys.addaudithook(hook)
sys.argv = ["inchworm", *{arguments!r}]
code = 0
try:
    main()
except SystemExit as ending:
    code = ending.code or 0
sys.stdout.flush()
os.write(1, ("\\nSEEN " + json.dumps([code, sorted(seen)])).encode())
"""

COMMANDS = {
    "new": ["new", "data/another"],
    "trust": ["trust", "--yes"],
    "rows": ["rows", "report.daily_total"],
    "params": ["params", "oldest_day"],
    "version": ["version"],
    "check": ["check"],
    "trace": ["trace", "--all", "--format", "openlineage"],
    "pack": ["pack"],
    "bundles": ["bundles"],
    "promote": ["promote", "BUNDLE", "--to", "dev", "--yes"],
    "review": ["review", "P1", "--html", "out.html"],
    "approve": ["approve", "P1"],
    "run": ["run", "daily", "--in", "dev"],
    "pause": ["pause", "dev", "--because", "so"],
    "status": ["status"],
    "compare": ["compare", "dev", "dev"],
    "drift": ["drift", "dev"],
    "doctor": ["doctor", "dev"],
    "history": ["history", "--html", "out.html"],
    "rollback": ["rollback", "dev", "--yes"],
    "hold": ["hold", "report.daily_total", "--in", "dev", "--because", "so", "--yes"],
    "adopt": ["adopt", "dev", "ops"],
    "waive": ["waive", "x/y", "model:a.b", "--because", "so", "--until", "2027-01-01"],
    "ledger": ["ledger", "verify"],
    "sim": ["sim", "clock", "dev"],
    "serve": ["serve", "dev"],
    "demo": ["demo", "--help"],
}
"""A way to call each command; serve and demo go on for long, so only what begins them is seen."""


def seen(program: Program, arguments: list[str], *, trusted: bool) -> tuple[int, set[str], str]:
    """How a command ends, what it did, and what it printed."""
    environ = program.environ
    if not trusted:
        environ = {n: v for n, v in environ.items() if not n.startswith("INCHWORM_TRUST")}
    config = str(Path(environ["XDG_CONFIG_HOME"]))
    code = WATCH.format(root=str(program.folder), config=config, arguments=arguments)
    process = Started(program.folder, environ, code)
    out, err = process.communicate(timeout=120)
    text, _, told = out.rpartition("\nSEEN ")
    assert told, (arguments, out, err)
    assert "Traceback" not in err, err
    ended, effects = json.loads(told)
    return ended, set(effects), text + err


def token_for(program: Program, reference: str, url: str) -> None:
    """Have the gateway of development at an address, with a token."""
    matrix = (program.folder / "parameters.toml").read_text()
    row = f'[token]\ntype = "secret"\nevery = "{reference}"\n'
    program.write("parameters.toml", f"{matrix}\n{row}")
    program.edit(
        "environments/dev.toml",
        '[gateway]\nurl = "sim:dev"',
        f'[gateway]\nurl = "{url}"\ntoken = "${{token}}"',
    )


def contents(folder: Path) -> dict[str, bytes]:
    """Everything in a folder, but for what is remembered."""
    return {
        str(file.relative_to(folder)): file.read_bytes()
        for file in folder.rglob("*")
        if file.is_file() and not {".inchworm", ".git"} & set(file.relative_to(folder).parts)
    }


@pytest.fixture
def hostile(starter: Program, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Program:
    """Somebody else's project, which would like to do much; whoever has it has a folder anew."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    starter.edit("environments/dev.toml", DEV, SQLITE)
    starter.write(
        "environments/dev.toml",
        (starter.folder / "environments/dev.toml").read_text()
        + f'\n[entry]\nask = ["touch {tmp_path}/asked"]\n',
    )
    starter.write("library/lib/__init__.py", f"open({str(tmp_path / 'ran')!r}, 'w')\n")
    starter.write("library/tests/test_it.py", "import lib\n\ndef test_it() -> None: ...\n")
    starter.write("library/conftest.py", f"open({str(tmp_path / 'ran')!r}, 'w')\n")
    starter.git("init", "--quiet", "--initial-branch", "main")
    starter.git("add", "--all")
    starter.git("commit", "--quiet", "--message", "First")
    return starter


def test_every_command_declares_what_it_does() -> None:
    """A new command cannot be forgotten, and the page is what is declared."""
    commands = {name for section in SECTIONS.values() for name in section}
    assert set(EFFECTS) == commands == set(COMMANDS)
    page = (ROOT / "docs/trust.md").read_text()
    assert "\n".join(table()) in page


@pytest.mark.parametrize("command", [name for name in COMMANDS if name != "demo"])
def test_nothing_is_executed_or_reached_without_trust(
    hostile: Program, tmp_path: Path, command: str
) -> None:
    """In a clone that nobody trusts a command works, or says what it would do; it does nothing."""
    before = contents(hostile.folder)
    code, effects, text = seen(hostile, COMMANDS[command], trusted=False)
    refused = {"writes outside", *(effect.value for effect in NEEDS_TRUST)}
    if command == "new":
        effects -= {Effect.TARGETS.value}  # it was given a folder in data/
        before |= contents(hostile.folder)
    assert not {effect.partition(":")[0] for effect in effects} & refused, effects
    assert effects <= {effect.value for effect in EFFECTS[command]}
    assert contents(hostile.folder) == before
    assert not (tmp_path / "asked").exists()
    assert not (tmp_path / "ran").exists()
    assert code in {0, 1, 2}, text
    if command not in {"check", "trace", "params", "trust", "new", "waive", "version"}:
        assert code == 2, text
        assert "is not trusted, and this command would" in " ".join(text.split())
        assert "inchworm trust --show" in text


@pytest.mark.long
def test_every_command_does_what_it_declares_and_nothing_else(
    hostile: Program, tmp_path: Path
) -> None:
    """In a project that is trusted, under an audit hook, one command after another."""
    (hostile.folder / "library/conftest.py").unlink()
    bundle = hostile.pack()
    for command, arguments in COMMANDS.items():
        if command in {"serve", "demo", "trust"}:
            continue
        given = [bundle if word == "BUNDLE" else word for word in arguments]
        _, effects, text = seen(hostile, given, trusted=True)
        if command == "new":
            effects -= {Effect.TARGETS.value}
        declared = {effect.value for effect in EFFECTS[command]}
        assert effects <= declared, (command, effects - declared, text)


def test_trust_is_the_users_and_ends_with_them(hostile: Program, tmp_path: Path) -> None:
    """It is asked for once, kept outside the repository, and can be taken back."""
    environ = {"INCHWORM_TRUST": ""}
    asked = hostile("pack", code=2, environ=environ).text
    assert "this command would" in asked
    shown = hostile("trust", "--show", environ=environ)
    assert "touch" in shown.out
    assert "sqlite" in shown.out
    assert hostile("pack", code=2, environ=environ).text == asked, "looking is not trusting"
    hostile("trust", code=2, environ=environ)  # nobody is there to say yes
    hostile("trust", "--yes", environ=environ)
    (hostile.folder / "library/conftest.py").unlink()
    hostile("pack", environ=environ)
    kept = tmp_path / "config/inchworm/trust.json"
    assert kept.stat().st_mode & 0o777 == 0o600
    assert kept.parent.stat().st_mode & 0o777 == 0o700
    hostile("trust", "--remove", environ=environ)
    hostile("status", code=2, environ=environ)
    kept.parent.chmod(0o777)
    assert (
        "Others may write in this folder" in hostile("trust", "--yes", code=2, environ=environ).err
    )


def test_a_secret_goes_where_it_was_allowed_to_go(
    plain: Program, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """A changed address asks again, and nothing is sent until somebody has looked."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    token_for(plain, "env:GATE_TOKEN", "http://127.0.0.1:9")
    environ = {"INCHWORM_TRUST": "", "GATE_TOKEN": "hunter2"}
    plain("trust", "--yes", environ=environ)
    assert "cannot be reached" in plain("status", code=1, environ=environ).text
    plain.edit("environments/dev.toml", "127.0.0.1:9", "127.0.0.1:10")
    said = plain("status", code=1, environ=environ).text
    assert "env:GATE_TOKEN would go to http://127.0.0.1:10" in said
    assert "It is allowed for http://127.0.0.1:9" in said
    assert "hunter2" not in said
    assert "new" in plain("trust", "--show", environ=environ).out
    plain("trust", "--yes", environ=environ)
    assert "cannot be reached" in plain("status", code=1, environ=environ).text
    plain.edit("environments/dev.toml", "127.0.0.1:10", "gate.example:80")
    plain("trust", "--yes", environ=environ)
    said = plain("status", code=1, environ=environ).text
    assert "unencrypted" in said
    assert "inchworm trust --unencrypted http://gate.example:80" in said


def test_a_build_server_trusts_by_variables(hostile: Program) -> None:
    """The folder and the addresses are named; nothing is kept."""
    (hostile.folder / "library/conftest.py").unlink()
    environ = {"INCHWORM_TRUST": "", "HOME": "/nowhere", "XDG_CONFIG_HOME": "/nowhere/config"}
    hostile("pack", code=2, environ=environ)
    hostile("pack", environ={**environ, "INCHWORM_TRUST": f"/other:{hostile.folder}"})


@pytest.mark.parametrize(
    ("url", "destination", "is_here"),
    [
        ("sim:dev", "", True),
        ("duckdb:///data/x.duckdb", "", True),
        ("data/inbox", "", True),
        ("https://u:p@Good.example:8443/path?q", "https://good.example:8443", False),
        ("jupyter+http://localhost:8888", "http://localhost:8888", True),
        ("http://[::1]:80/x", "http://[::1]:80", True),
        ("http://good.example\\@evil.example", "http://good.example\\@evil.example", False),
        ("postgresql://u@localhost/db", "postgresql://localhost", True),
        ("postgresql:///db?host=/run/pg", "postgresql://?host=/run/pg", True),
        ("postgresql://u@localhost/db?host=evil", "postgresql://localhost?host=evil", False),
        ("postgresql://u@localhost,evil/db", "postgresql://localhost,evil", False),
        ("postgresql://u@localhost/db?service=x", "postgresql://localhost?service=x", False),
        ("simplecache::https://evil.example", "simplecache::https://evil.example", False),
    ],
)
def test_where_an_address_leads(url: str, destination: str, is_here: bool) -> None:
    assert destination_of(url) == destination
    assert is_on_this_machine(destination) is is_here


def test_secrets_go_to_other_machines_encrypted() -> None:
    """A database's address has to say so; one that the user has named may do without."""
    trust = Trust(is_given=True, destinations={"env:X": frozenset({"postgresql://db.example"})})
    with pytest.raises(NotAllowed, match="unencrypted"):
        trust.check_destination("env:X", "postgresql://u@db.example/d")
    trust.check_destination("env:X", "postgresql://u@db.example/d?sslmode=verify-full")
    with pytest.raises(NotAllowed, match="would go to"):
        trust.check_destination("env:Y", "postgresql://u@db.example/d?sslmode=verify-full")
    trust.check_place("postgresql://other@db.example/x")
    trust.check_place("http://127.0.0.1:80/x")
    trust.check_place("data/inbox")
    with pytest.raises(NotAllowed, match="would reach https://evil"):
        trust.check_place("https://evil.example/x")
    with pytest.raises(NotTrusted, match="is not trusted"):
        Trust().check_destination("env:X", "sim:dev")


def test_a_file_of_a_secret_is_in_the_project(plain: Program, tmp_path: Path) -> None:
    """Or in a folder that the user has allowed; a link out of the project leads nowhere."""
    key = tmp_path / "keys/token"
    key.parent.mkdir()
    key.write_text("hunter2")
    key.chmod(0o600)
    token_for(plain, f"file:{key}", "sim:dev")
    said = plain("status", code=1).text
    assert "leads out of the project" in said
    assert f"inchworm trust --folder {key.parent}" in said
    (plain.folder / "link").symlink_to(key)
    plain.edit("parameters.toml", f"file:{key}", "file:link")
    assert "leads out of the project" in plain("status", code=1).text
    environ = {"INCHWORM_TRUST": ""}
    plain("trust", "--yes", "--folder", str(key.parent), environ=environ)
    plain("status", environ=environ)
    plain("trust", "--remove", environ=environ)


# ---- links --------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("path", "command"),
    [
        (".inchworm", ["check"]),
        (".inchworm/facts.sqlite", ["check"]),
        (".inchworm/ledger.sqlite", ["history"]),
        (".inchworm/bundles", ["pack"]),
        (".inchworm/sim", ["status"]),
        ("models", ["check"]),
        ("environments", ["check"]),
        ("environments/dev.toml", ["check"]),
        (
            "waivers.toml",
            [
                "waive",
                "model/not-read",
                "report.daily_total",
                "--because",
                "x",
                "--until",
                "2027-01-01",
            ],
        ),
        ("parameters.toml", ["params", "set", "oldest_day", "dev", "2026-02-02"]),
        ("inchworm.toml", ["version", "0.2.0"]),
        ("out.svg", ["trace", "--all", "--picture", "out.svg"]),
        (".inchworm/dev.sqlite", ["promote", "BUNDLE", "--to", "dev", "--yes"]),
    ],
)
def test_nothing_is_read_or_written_through_a_link(
    plain: Program, tmp_path: Path, path: str, command: list[str]
) -> None:
    """Neither a file nor a folder on the way: what it leads to is somebody else's."""
    bundle = plain.pack() if "BUNDLE" in command else ""
    place, other = plain.folder / path, tmp_path / "elsewhere"
    place.parent.mkdir(parents=True, exist_ok=True)
    if place.exists():
        place.rename(other)
    else:
        other.write_text("mine\n")
    place.symlink_to(other)
    before = contents(tmp_path / "elsewhere") if other.is_dir() else other.read_bytes()
    answer = plain(*(bundle if word == "BUNDLE" else word for word in command), code=None)
    assert answer.code in {1, 2}, answer
    assert "link" in answer.text, answer
    after = contents(tmp_path / "elsewhere") if other.is_dir() else other.read_bytes()
    assert after == before


def test_modes_are_ours_whatever_the_umask_is(plain: Program, tmp_path: Path) -> None:
    """Private files stay private under an open umask, and source files readable under a closed."""
    for umask in (0o000, 0o077):
        before = os.umask(umask)
        try:
            plain("params", "set", "oldest_day", "dev", f"2026-03-0{1 + bool(umask)}")
            plain("check")
        finally:
            os.umask(before)
        for name in (".inchworm/facts.sqlite", ".inchworm/declarations.json"):
            assert not (plain.folder / name).stat().st_mode & 0o077 or name.endswith("sqlite")
        assert (plain.folder / ".inchworm").stat().st_mode & 0o777 == 0o700
        assert (plain.folder / "parameters.toml").stat().st_mode & 0o777 == 0o644


# ---- scratch databases --------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["sqlite", "duckdb"])
@pytest.mark.parametrize(
    "statement",
    [
        "ATTACH '{other}' AS x",
        "VACUUM INTO '{other}.copy'",
        "COPY (SELECT 1 AS a) TO '{other}.copy'",
        "SELECT load_extension('{other}')",
        "PRAGMA temp_store_directory = '{other}'",
        "SET profiling_output = '{other}.copy'",
        "CALL enable_logging(storage = 'file', storage_config = {{'path': '{other}.copy'}})",
    ],
)
def test_trying_a_migration_reaches_no_file(
    starter: Program, tmp_path: Path, kind: str, statement: str
) -> None:
    """What check runs in memory stays there; what does not pass is a finding with its line."""
    import sqlite3

    other = tmp_path / "mine.db"
    with sqlite3.connect(other) as mine:
        mine.execute("CREATE TABLE t (a)")
        mine.execute("INSERT INTO t VALUES (1)")
    starter.edit("inchworm.toml", 'dialect = "duckdb"', f'dialect = "{kind}"')
    starter.edit(
        "environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", f"{kind}:///data/d.{kind}"
    )
    before = other.read_bytes()
    sql = statement.format(other=other)
    more = "DELETE FROM x.t;\n" if statement.startswith("ATTACH") else ""
    starter.write(
        "schemas/ops/migrations/0002_evil.sql", f"CREATE TABLE ops.b (c INTEGER);\n{sql};\n{more}"
    )
    findings = starter.findings()
    assert other.read_bytes() == before
    assert sorted(p.name for p in tmp_path.glob("mine.db*")) == ["mine.db"]
    own = [f for f in findings if f["file"] == "schemas/ops/migrations/0002_evil.sql"]
    assert own, findings


# ---- git ----------------------------------------------------------------------------------------

SETTINGS = [
    *("core.fsmonitor", "core.pager", "core.sshCommand", "core.gitProxy", "core.askPass"),
    *("core.editor", "core.alternateRefsCommand", "diff.external", "diff.x.command"),
    *("diff.x.textconv", "filter.x.clean", "filter.x.smudge", "filter.x.process"),
    *("filter.a=b.clean", "merge.x.driver", "gpg.program", "gpg.ssh.program"),
    *("gpg.ssh.defaultKeyCommand", "credential.helper", "pager.log", "pager.status"),
    *("remote.origin.uploadpack", "remote.origin.vcs", "tar.tar.command", "trailer.x.command"),
    *("trailer.co-authored-by.cmd", "uploadpack.packObjectsHook", "sequence.editor"),
    *("interactive.diffFilter", "submodule.x.update", "alias.log", "alias.status"),
]


@pytest.mark.parametrize(
    ("where", "settings"),
    [
        *(("config", [setting]) for setting in SETTINGS),
        ("included", SETTINGS),
        ("worktree", SETTINGS),
    ],
)
def test_no_setting_of_a_repository_starts_a_program(
    plain: Program, tmp_path: Path, settings: list[str], where: str
) -> None:
    """Each that can, one by one; and all of them in an included file and in a work tree's."""
    sprung = tmp_path / "sprung"
    trap = tmp_path / "trap"
    trap.write_text(f"#!/bin/sh\necho $0 $* >> {sprung}\ncat\n")
    trap.chmod(0o755)
    git = plain.folder / ".git"
    plain.git("init", "--quiet", "--initial-branch", "main")
    plain.git("add", "--all")
    plain.git("commit", "--quiet", "--message", "First\n\nCo-authored-by: Ann <ann@x.example>")
    plain.git("tag", "v0.1.0")
    (git / "info").mkdir(exist_ok=True)
    attributes = "* filter=x diff=x merge=x\n*.toml filter=a=b\n"
    (git / "info/attributes").write_text(attributes)
    config = {
        "config": git / "config",
        "included": git / "more",
        "worktree": git / "config.worktree",
    }
    if where == "included":
        plain.git("config", "include.path", "more")
    if where == "worktree":
        plain.git("config", "extensions.worktreeConfig", "true")
    for setting in settings:
        value = f"!{trap}" if setting.startswith("alias") else str(trap)
        plain.git("config", "--file", str(config[where]), setting, value)
    files = {
        str(file.relative_to(plain.folder)): file.read_bytes()
        for file in plain.folder.rglob("*.*")
        if file.is_file() and ".git" not in file.parts
    }
    for path in files:
        os.utime(plain.folder / path, (1, 1))  # git has to look inside
    state = read_state(plain.folder, {**files, "models/report/daily_total.sql": b"other"})
    assert state.commit is not None
    assert contributors(plain.folder, state.commit, []).names >= {"t", "Ann"}
    assert files_at(plain.folder, "HEAD")
    assert user_name(plain.folder) is None
    assert commit_has(plain.folder, state.commit, {"inchworm.toml": b"other"}) is False
    assert not sprung.exists(), sprung.read_text()


def test_nothing_is_fetched_for_a_clone_that_lacks_objects(plain: Program, tmp_path: Path) -> None:
    """A partial clone would fetch what is missing, with a program that its configuration names."""
    sprung = tmp_path / "sprung"
    plain.git("init", "--quiet", "--initial-branch", "main")
    plain.git("add", "--all")
    plain.git("commit", "--quiet", "--message", "First")
    blob = plain.git("rev-parse", "HEAD:inchworm.toml")
    (plain.folder / f".git/objects/{blob[:2]}/{blob[2:]}").unlink()
    plain.git("config", "remote.origin.url", f"ext::sh -c 'touch {sprung}'")
    for name, value in (("promisor", "true"), ("partialclonefilter", "blob:none")):
        plain.git("config", f"remote.origin.{name}", value)
    plain.git("config", "extensions.partialClone", "origin")
    plain.git("config", "core.repositoryformatversion", "1")
    plain.git("config", "protocol.ext.allow", "always")
    for command in (["pack"], ["compare", "HEAD", "."]):
        plain(*command, code=None)
    assert not sprung.exists()


def test_a_bare_repository_in_the_tree_is_none(plain: Program, tmp_path: Path) -> None:
    """A folder that looks like a repository of its own is not asked for its settings."""
    sprung = tmp_path / "sprung"
    trap = tmp_path / "trap"
    trap.write_text(f"#!/bin/sh\ntouch {sprung}\n")
    trap.chmod(0o755)
    for name in ("objects", "refs"):
        (plain.folder / name).mkdir()
    (plain.folder / "HEAD").write_text("ref: refs/heads/main\n")
    (plain.folder / "config").write_text(
        f"[core]\nbare = false\nworktree = .\nfsmonitor = {trap}\n"
    )
    plain("pack", code=None)
    assert not sprung.exists()
