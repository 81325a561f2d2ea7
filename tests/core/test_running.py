"""Runs: their steps are planned so that each begins behind what it needs, and nothing twice."""

from __future__ import annotations

import datetime as dt
from typing import Any

import pytest
from msgspec.structs import replace

from inchworm.core.errors import ProjectError, UsageError
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import PartId
from inchworm.core.ledger.entries import Entry
from inchworm.core.ledger.events import Event, RunEnded, RunStarted, RunStepReported
from inchworm.core.ledger.runs import RunSummary, run_of, usually_took
from inchworm.core.parameters.matrix import evaluate
from inchworm.core.parameters.values import read_size
from inchworm.core.parts import Digest
from inchworm.core.rendered import RenderedParts
from inchworm.core.running.earlier import steps_done, usual_seconds
from inchworm.core.running.planning import plan_steps, seconds_of, subject_of
from inchworm.core.running.run import Limits, Run, RunId, RunPlan, RunStep, is_run_key, run_number
from inchworm.core.running.states import TRANSITIONS, RunState
from inchworm.core.sample import Sample
from inchworm.kinds.project_reader import Reading, read_project

FILES = {
    "models/a/one.sql": '/*---\nstore = "table"\nkey = ["n"]\n---*/\nSELECT 1 AS n',
    "models/a/two.sql": "SELECT n FROM a.one",
    "models/a/three.sql": '/*---\nstore = "table"\n[columns.n]\npoints_to = "a.one.n"\n---*/\n'
    "SELECT n FROM a.two",
    "checks/none.sql": "SELECT n FROM a.two WHERE n > 5",
    "pipelines/all.toml": """
[[steps]]
name = "last"
build = ["a.three"]
after = ["first"]
timeout = "90s"
retries = 2
[[steps]]
name = "first"
build = ["a.two", "a.one"]
threads = 2
memory = "2 GB"
""",
}


def planned(
    name: str,
    files: dict[str, str] | None = None,
    moved: tuple[str, ...] = (),
    **options: bool,
) -> list[RunStep]:
    reading = _read(files or FILES)
    rendered = RenderedParts(
        reading.assembly.parts,
        render=lambda part: reading.render(part, {}),
        recipe=lambda part: Digest(""),
    )
    subject = subject_of(name, reading.assembly)
    views = [PartId.parse(name) for name in moved]
    return list(plan_steps(subject, reading.assembly, rendered, moved=views, **options))


def _read(files: dict[str, str]) -> Reading:
    encoded = {path: text.encode() for path, text in files.items()}
    return read_project(name="p", version="1.0.0", dialect="duckdb", files=encoded)


def built(steps: list[RunStep]) -> list[str]:
    return [str(step.part) for step in steps if step.work == "build"]


def told(steps: list[RunStep]) -> list[tuple[str, str, tuple[int, ...]]]:
    return [(step.work.value, str(step.part), step.needs) for step in steps]


def test_a_stage_is_built_checked_and_switched_over_together() -> None:
    assert told(planned("all")) == [
        ("build", "model:a.one", ()),
        ("build", "model:a.two", (1,)),
        ("check", "model:a.one", (1,)),
        ("check", "check:none", (2,)),
        ("switch over", "models", (1, 2, 3, 4)),
        ("build", "model:a.three", (5,)),
        ("check", "model:a.three", (6,)),
        ("switch over", "models", (6, 7)),
    ]


def test_limits_are_those_of_the_step() -> None:
    steps = planned("all")
    assert steps[0].limits == Limits(memory=2_000_000_000, threads=2)
    assert steps[5].limits == Limits(seconds=90, retries=2)
    assert steps[6].limits.retries == 0, "a check that fails says the same again"
    wrong = FILES | {"pipelines/all.toml": FILES["pipelines/all.toml"].replace("2 GB", "much")}
    assert "'much' is not a size" in _read(wrong).assembly.findings[0].message


def test_a_limit_that_a_value_gives_is_read_when_it_runs() -> None:
    files = FILES | {
        "pipelines/all.toml": FILES["pipelines/all.toml"].replace("2 GB", "${room}"),
        "parameters.toml": '[room]\ntype = "text"\nevery = "much"\n',
    }
    reading = _read(files)
    values = evaluate(reading.assembly.matrix, "dev", dt.date(2026, 1, 1)).values
    rendered = RenderedParts(
        reading.assembly.parts,
        render=lambda part: reading.render(part, values),
        recipe=lambda part: Digest(""),
    )
    with pytest.raises(ProjectError, match="limit cannot be read: 'much'"):
        plan_steps(subject_of("all", reading.assembly), reading.assembly, rendered)


def test_neighbours_run_before_and_behind() -> None:
    up = planned("a.three", upstream=True)
    one, two = "model:a.one", "model:a.two"
    assert built(up) == [one, two, two, "model:a.three"], "the view is checked with its table"
    three = next(s for s in up if str(s.part) == "model:a.three")
    switches = [s.number for s in up if s.work == "switch over"]
    assert set(switches[:2]) <= set(three.needs)
    assert built(planned("MODEL:a.one", downstream=True)) == [one, two, two, "model:a.three"]


def test_what_is_between_two_runs_once() -> None:
    """It depends on the one, and the other depends on it: it runs behind."""
    ends = '[[steps]]\nname = "x"\nbuild = ["a.one", "a.three"]\n'
    steps = planned("all", FILES | {"pipelines/all.toml": ends}, upstream=True, downstream=True)
    assert built(steps) == ["model:a.one", "model:a.two", "model:a.three", "model:a.two"]


def test_a_step_of_its_own_comes_behind_what_it_needs_and_nothing_else() -> None:
    """Nobody asked for the neighbours, so they do not run."""
    assert told(planned("a.two")) == [
        ("build", "model:a.two", ()),
        ("check", "check:none", (1,)),
        ("switch over", "models", (1, 2)),
    ]
    behind = planned("a.two", downstream=True)
    assert built(behind) == ["model:a.two", "model:a.three"]
    flow = (
        FILES
        | FLOW
        | {
            "pipelines/all.toml": '[[steps]]\nname = "send"\nflow = "post"\nafter = ["build"]\n'
            '[[steps]]\nname = "build"\nbuild = ["a.one"]\n',
        }
    )
    assert told(planned("all", flow))[-1] == ("flow", "flow:post", (5,))


FLOW = {
    "connections/board.toml": 'kind = "http"\nurl = "http://board.example"\n',
    "apis/board.yaml": "openapi: 3.0.3\ninfo: {title: b, version: '1'}\n"
    "paths: {/: {post: {operationId: post, responses: {'200': {description: ok}}}}}\n",
    "flows/post.toml": 'direction = "out"\n[from]\ntable = "a.two"\n[to]\n'
    'connection = "board"\napi = "apis/board.yaml"\noperation = "post"\n[fields]\nn = "n"\n',
}


def test_a_checked_view_is_checked_before_a_flow_reads_it() -> None:
    """Although no pipeline builds it."""
    assert told(planned("post", FILES | FLOW)) == [
        ("build", "model:a.two", ()),
        ("check", "check:none", (1,)),
        ("switch over", "models", (1, 2)),
        ("flow", "flow:post", (3,)),
    ]


def test_a_view_whose_values_moved_is_renewed_before_it_is_read() -> None:
    """With the views between it and its reader; what does not read it leaves it alone."""
    files = {k: v for k, v in FILES.items() if not k.startswith(("checks", "pipelines"))} | {
        "models/a/zero.sql": "SELECT n FROM a.one",
        "models/a/two.sql": "SELECT n FROM a.zero",
    }
    moved = ("model:a.zero",)
    three = ["model:a.zero", "model:a.two", "model:a.three"]
    assert built(planned("a.three", files, moved)) == three
    assert built(planned("a.three", files)) == ["model:a.three"]
    assert built(planned("a.one", files, moved)) == ["model:a.one"]


def test_the_nearest_name_is_offered() -> None:
    with pytest.raises(UsageError, match=r"There is no pipeline.* a\.tow") as wrong:
        planned("a.tow")
    assert wrong.value.next == "Did you mean a.two?"
    with pytest.raises(UsageError) as far:
        planned("xyz")
    assert far.value.next == "See what is live: inchworm status ENV."


def test_only_some_kinds_run() -> None:
    with pytest.raises(UsageError, match="cannot be run"):
        planned("check:none")
    with pytest.raises(UsageError, match="There is no pipeline"):
        planned("a.on")


PLAN = RunPlan(
    environment="dev",
    subject=PartId.parse("pipeline:all"),
    bundle="p-1.0.0",
    bundle_digest=Digest("d"),
    commit=None,
    today="2026-01-01",
    steps=tuple(planned("all")),
)
DONE, FAILED = StepReport(state=StepState.DONE, seconds=2), StepReport(state=StepState.FAILED)


def ran(reports: dict[int, StepReport]) -> Run:
    return Run(
        id=RunId("l", 1),
        plan=PLAN,
        state=RunState.PARTLY_DONE,
        began_at="",
        began_by="",
        changed_at="",
        steps=reports,
    )


def test_a_stage_of_which_a_step_is_left_is_done_again_as_a_whole() -> None:
    first = dict.fromkeys(range(1, 6), DONE)
    assert set(steps_done(PLAN, ran(first | {6: DONE, 7: FAILED}))) == {1, 2, 3, 4, 5}
    assert steps_done(PLAN, ran(first | {5: FAILED})) == {}


def test_the_last_time_that_a_step_was_done_counts() -> None:
    slow = StepReport(state=StepState.DONE, seconds=9)
    assert usual_seconds(PLAN, [ran({1: slow, 2: slow}), ran({1: DONE, 2: FAILED})]) == {1: 2, 2: 9}


def test_a_plan_comes_back_from_its_record() -> None:
    assert RunPlan.from_json(PLAN.to_json()) == PLAN
    corner = replace(PLAN, corner="mira")
    assert RunPlan.from_json(corner.to_json()) == corner
    report = StepReport(
        state=StepState.DONE,
        message="m",
        seconds=1.5,
        rows=3,
        log="l",
        measures={"e": 2.0},
        samples={"x is required": Sample(columns=("x",), rows=((None,),))},
    )
    assert StepReport.from_json(report.to_json()) == report
    assert StepReport.from_json({"state": "done"}) == StepReport(state=StepState.DONE)


@pytest.mark.parametrize(("more", "seconds"), [("", None), ('timeout = "2m"\n', 120.0)])
def test_a_pipeline_may_say_how_long_its_run_may_take(more: str, seconds: float | None) -> None:
    reading = _read(FILES | {"pipelines/all.toml": more + FILES["pipelines/all.toml"]})
    rendered = RenderedParts(
        reading.assembly.parts,
        render=lambda part: reading.render(part, {}),
        recipe=lambda part: Digest(""),
    )
    subject = subject_of("all", reading.assembly)
    assert seconds_of(subject, reading.assembly, rendered) == seconds
    assert seconds_of(subject_of("a.one", reading.assembly), reading.assembly, rendered) is None


def test_a_run_is_worked_out_from_its_entries() -> None:
    def entry(number: int, event: Event) -> Entry:
        return Entry(
            number=number,
            at=f"2026-11-27T09:00:0{number}+00:00",
            by="mira",
            kind=event.kind,
            about="R7",
            body=event.body,
            before="",
        )

    entries = [
        entry(1, RunStarted(plan=PLAN)),
        entry(2, RunStepReported(step=1, report=DONE)),
        entry(3, RunStepReported(step=2, report=FAILED)),
        entry(4, RunEnded(state=RunState.PARTLY_DONE, message="a step failed")),
    ]
    begun = run_of("l", entries[:1])
    assert (begun.state, begun.steps, begun.message) == (RunState.RUNNING, {}, "")
    assert (begun.began_at, begun.changed_at) == (entries[0].at, entries[0].at)
    at_work = run_of("l", entries[:3])
    assert at_work.steps == {1: DONE, 2: FAILED}
    assert at_work.changed_at == entries[0].at, "a step does not change where the run stands"
    ended = run_of("l", entries)
    assert (ended.id, ended.plan, ended.began_by) == (RunId("l", 7), PLAN, "mira")
    assert (ended.state, ended.message) == (RunState.PARTLY_DONE, "a step failed")
    assert (ended.began_at, ended.changed_at) == (entries[0].at, entries[3].at)
    assert ended.steps == at_work.steps


def test_names_of_runs() -> None:
    assert [run_number(text) for text in ("R12", "r3", "P1", "R")] == [12, 3, None, None]
    assert is_run_key(RunId("abc", 4).key)
    assert not is_run_key("abc:P4")


def test_whatever_ended_stays_so() -> None:
    assert all(not following for state, following in TRANSITIONS.items() if state != "running")


@pytest.mark.parametrize(
    ("text", "size"),
    [("512 MB", 512_000_000), ("2GiB", 2 << 30), ("1.5 k", 1500), ("7", 7), ("1tb", 10**12)],
)
def test_sizes(text: str, size: int) -> None:
    assert read_size(text) == size


@pytest.mark.parametrize("text", ["", "GB", "2 XB", "-1 MB", "1,5 GB"])
def test_what_is_no_size(text: str) -> None:
    with pytest.raises(ValueError, match="is not a size"):
        read_size(text)


def test_how_long_runs_usually_take() -> None:
    """The median of the last ones of the same that were done; those that failed do not count."""

    def summary(number: int, seconds: int, **more: Any) -> RunSummary:
        ended = dt.datetime(2026, 1, 1, tzinfo=dt.UTC) + dt.timedelta(seconds=seconds)
        fields: dict[str, Any] = {
            "environment": "dev",
            "subject": PLAN.subject,
            "state": RunState.DONE,
            **more,
        }
        return RunSummary(
            id=RunId("l", number),
            corner="",
            bundle="p-1.0.0",
            bundle_digest=Digest("d"),
            started="hand",
            began_at="2026-01-01T00:00:00+00:00",
            began_by="lena",
            changed_at=ended.isoformat(),
            message="",
            through=number,
            **fields,
        )

    runs = [
        summary(1, 10),
        summary(2, 900, state=RunState.FAILED),
        summary(3, 30),
        summary(4, 50, environment="test"),
        summary(5, 80),
        summary(6, 70, state=RunState.RUNNING),
    ]
    assert {id_.number: took for id_, took in usually_took(runs).items()} == {
        2: 10,
        3: 10,
        5: 20,
        6: 30,
    }
    assert (runs[1].took, runs[5].took) == (900, None)
    many = [summary(number, 1 if number <= 30 else 9) for number in range(1, 52)]
    assert usually_took(many)[RunId("l", 51)] == 9
