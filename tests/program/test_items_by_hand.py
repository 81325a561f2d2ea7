"""What somebody changes in a workspace or gateway by hand: seen, kept, taken into the source."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from inchworm.core.identifiers import PartId
from inchworm.sim.store import SimStore
from inchworm.targets.http_services import connect_service
from tests.driver import Program


def change(program: Program, part: str, edit: Callable[[Any], None]) -> None:
    """Change an item of test's simulated service behind everybody's back."""
    with closing(connect_service("sim:test", program.folder, None, None)) as service:
        id_ = PartId.parse(part)
        document = dict(service.document(id_))
        edit(document)
        service.put(id_, "sha256:by-hand", document)


def described(document: Any) -> None:
    """Another text, which has a value of the environment in it."""
    document["about"] = "Sent to sim:board_test"


def slower(document: Any) -> None:
    """A step takes longer, may use more memory, and one has a new setting."""
    document["steps"][1]["timeout"] = "20m"
    document["steps"][1]["retries"] = 5
    document["steps"][2]["retries"] = 1


def drifted(program: Program) -> dict[str, list[tuple[str, str, str]]]:
    """The differences of each part: what, was and now."""
    document = program("drift", "test", "--json", code=None).json
    return {
        each["part"]: [
            (d["item"].partition(" of ")[0], d["was"], d["now"]) for d in each["differences"]
        ]
        for each in document["drifted"]
    }


def test_it_is_seen_leaf_by_leaf(released: Program) -> None:
    """With what was put there, and what is."""
    change(released, "pipeline:nightly", slower)
    assert drifted(released) == {
        "pipeline:nightly": [
            ("steps.1.timeout", "10m", "20m"),
            ("steps.1.retries", "2", "5"),
            ("steps.2.retries", "", "1"),
        ]
    }
    shown = released("drift", "test", code=1).text
    assert "steps.1.retries of pipeline:nightly" in shown
    assert "inchworm adopt takes it into the source" in shown


def test_no_promotion_puts_it_back_unasked(released: Program) -> None:
    """Also one that has nothing to do with it; --overwrite does."""
    program = released
    change(program, "pipeline:nightly", slower)
    program.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    bundle = program.release("1.4.1")
    program.promote(bundle, "dev")
    refused = program.promote(bundle, "test", code=1).json
    (finding,) = [f for f in refused["findings"] if f["severity"] == "error"]
    assert (finding["rule"], finding["part"]) == ("promotion/drifted", "pipeline:nightly")
    assert "inchworm adopt test pipeline:nightly" in finding["remedy"]
    assert drifted(program).keys() == {"pipeline:nightly"}
    program("promote", bundle, "--to", "test", "--yes", "--overwrite")
    assert drifted(program) == {}


def test_it_is_adopted(released: Program) -> None:
    """Settings are written where they are; the value of a parameter that is all of one changes."""
    program = released
    change(program, "pipeline:nightly", slower)
    told = program("adopt", "test", "pipeline:nightly").text
    assert "forecast_timeout = 20m in test" in told
    assert "steps.1.retries, steps.2.retries, in pipelines/nightly.toml" in told
    text = (program.folder / "pipelines/nightly.toml").read_text()
    assert 'timeout = "${forecast_timeout}"' in text
    assert "retries = 5" in text
    assert program.findings(code=0) == []
    bundle = program.release("1.4.1")
    program.promote(bundle, "dev")
    assert program("promote", bundle, "--to", "test", "--yes", "--overwrite").code == 0
    assert drifted(program) == {}
    assert "nothing to do" in program("adopt", "test", "pipeline:nightly").text


def test_values_become_references_again(released: Program) -> None:
    """So that each environment has its own."""
    program = released
    change(program, "connection:notice_service", described)
    told = program("adopt", "test", "connection:notice_service").text
    assert "about, in connections/notice_service.toml" in told
    text = (program.folder / "connections/notice_service.toml").read_text()
    assert 'about = "Sent to ${notice_url}"' in text


def test_what_cannot_be_written_back_is_named(released: Program) -> None:
    """With what to do instead."""
    program = released

    def other_api(document: Any) -> None:
        document["openapi"]["info"]["title"] = "Other"
        document["fields"]["state"] = "river"

    change(program, "flow:publish_warnings", other_api)
    told = program("adopt", "test", "flow:publish_warnings").text
    assert "left out openapi.info.title: it comes from the API document" in told
    assert "fields.state, in flows/publish_warnings.toml" in told
    change(program, "notebook:level_forecast", lambda d: d.update(nbformat_minor=0))
    told = program("adopt", "test", "notebook:level_forecast").text
    assert "left out nbformat_minor: only cells are written back" in told
    assert "does not run in test" in program("adopt", "test", "flow:nothing", code=2).text


@pytest.mark.parametrize("part", ["flow:publish_warnings"])
def test_one_that_was_removed_is_not_adopted(released: Program, part: str) -> None:
    """The ways on are named."""
    with closing(connect_service("sim:test", released.folder, None, None)) as service:
        service.remove(PartId.parse(part))
    assert "was removed in test by hand" in released("adopt", "test", part, code=2).text


def cells(program: Program) -> list[Any]:
    """The cells of a notebook of the source tree."""
    text = (program.folder / "notebooks/level_forecast.ipynb").read_text()
    return list(json.loads(text)["cells"])


def test_cells_of_a_notebook_are_adopted(released: Program) -> None:
    """Those that nobody changed stay as they are in the file."""
    program = released
    before = cells(program)

    def edit(document: Any) -> None:
        document["notebook"]["cells"][-1]["source"] += "\nprint('by hand')"

    def add(document: Any) -> None:
        document["notebook"]["cells"].append({"cell_type": "markdown", "source": "Checked."})

    change(program, "notebook:level_forecast", edit)
    told = program("adopt", "test", "notebook:level_forecast").text
    assert f"cell {len(before)}, in notebooks/level_forecast.ipynb" in told
    after = cells(program)
    assert after[:-1] == before[:-1]
    assert "".join(after[-1]["source"]).endswith("\nprint('by hand')")
    change(program, "notebook:level_forecast", add)
    told = program("adopt", "test", "notebook:level_forecast").text
    assert "left out notebook.cells: the notebook of the source tree has other cells" in told
    program.git("checkout", "--quiet", "notebooks")
    assert "cells, in notebooks" in program("adopt", "test", "notebook:level_forecast").text
    assert "".join(cells(program)[-1]["source"]) == "Checked."
    assert program.findings(code=0) == []
    bundle = program.release("1.4.1")
    program.promote(bundle, "dev")
    program("promote", bundle, "--to", "test", "--yes", "--overwrite")
    assert drifted(program) == {}


def test_a_fresh_clone_has_not_lost_what_its_simulated_services_never_had(
    starter: Program, tmp_path: Path
) -> None:
    """What was put into another checkout's is no change by hand; a promotion puts it here."""
    url = f"duckdb:///{tmp_path}/shared.duckdb"
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", url)
    starter.promote(starter.pack(), "dev")
    other = Program(tmp_path / "clone")
    ignored = shutil.ignore_patterns("sim", "*.sqlite*", "remembered*")
    shutil.copytree(starter.folder, other.folder, ignore=ignored)
    told = other("drift", "dev")
    assert "nothing was put into this checkout's simulated services yet" in told.text
    assert other("drift", "dev", "--json").json["drifted"] == []
    bundle = other.pack()
    done = other.promote(bundle, "dev").json
    (step,) = [s for s in done["steps"] if s["phase"] == "deliver"]
    assert step["reason"] == "is not in this checkout's simulated service yet"
    SimStore(other.folder / ".inchworm/sim/dev.sqlite").remove("pipeline", "daily")
    drifted = other("drift", "dev", "--json", code=None).json["drifted"]
    assert [each["part"] for each in drifted] == ["pipeline:daily"]
