"""``inchworm trace``."""

from __future__ import annotations

import io
import json

import pytest

from inchworm.report import pictures
from tests.driver import Program


def edges(river: Program, *arguments: str) -> set[tuple[str, str, str]]:
    document = river("trace", *arguments, "--json").json
    assert document["format"] == "inchworm/lineage/1"
    return {(e["from"], e["to"], e["how"]) for e in document["edges"]}


def test_all_edges(river: Program) -> None:
    """Between columns, from columns to tables, and through every kind of part."""
    found = edges(river, "--all")
    assert {
        ("raw.gauge.name", "hydro.gauge.name", "copied"),
        ("hydro.reading_clean.level_cm", "hydro.hourly_level.peak_cm", "computed"),
        ("hydro.reading_clean.gauge_id", "hydro.hourly_level", "rows"),
        ("hydro.hourly_level.mean_cm", "notebook:level_forecast", "computed"),
        ("notebook:level_forecast", "hydro.level_forecast.forecast_cm", "computed"),
        ("alert.public_board.state", "flow:publish_warnings.state", "copied"),
        ("flow:take_hand_readings.time", "ops.hand_reading.taken_at", "copied"),
        ("hydro.daily_peak.peak_cm", "consumer:county_report", "copied"),
    } <= found


def test_down_and_up_are_each_others_reverse(river: Program) -> None:
    """What a column depends on is affected by it."""
    down = edges(river, "hydro.hourly_level.mean_cm", "--down")
    assert ("notebook:level_forecast", "hydro.level_forecast.forecast_cm", "computed") in down
    up = edges(river, "flow:publish_warnings.expected_cm", "--up")
    assert ("hydro.hourly_level.mean_cm", "notebook:level_forecast", "computed") in down & up


def test_the_tree_goes_through_models_to_flow_and_consumer(river: Program) -> None:
    """Names are matched without case."""
    text = river("trace", "Alert.Flood_State.PEAK_CM", "--down").text
    assert "copied consumer:flood_map consumers/flood_map.toml" in text
    assert "computed alert.public_board.level_cm" in text
    assert "copied flow:publish_warnings.level_cm" in text


def test_a_name_that_is_nearly_right(river: Program) -> None:
    """The nearest one is offered."""
    answer = river("trace", "hydro.hourly_level.peak", code=2)
    assert "Did you mean hydro.hourly_level.peak_cm?" in answer.err
    assert "Give one name, or --all." in river("trace", code=2).err


def test_a_walk_can_be_kept_short(river: Program) -> None:
    """By depth, and by how."""
    near = edges(river, "hydro.hourly_level.peak_cm", "--down", "--depth", "1")
    assert {source for source, _, _ in near} == {"hydro.hourly_level.peak_cm"}
    copies = edges(river, "hydro.hourly_level.peak_cm", "--down", "--how", "copied")
    assert {how for _, _, how in copies} == {"copied"}
    assert ("alert.flood_state.peak_cm", "consumer:flood_map", "copied") in copies


def test_the_ways_between_two(river: Program) -> None:
    """Everything on some way, and nothing beside it."""
    arguments = ("raw.reading.level_cm", "--to", "flow:publish_warnings.level_cm")
    found = edges(river, *arguments, "--how", "copied", "--how", "computed")
    assert ("hydro.hourly_level.peak_cm", "alert.flood_state.peak_cm", "copied") in found
    assert ("alert.public_board.level_cm", "flow:publish_warnings.level_cm", "copied") in found
    assert not [edge for edge in found if "daily_peak" in edge[1]]
    back = river("trace", arguments[2], "--to", arguments[0])
    assert back.out == "There is no way.\n"


def test_lineage_can_be_drawn_by_other_programs(river: Program) -> None:
    """As DOT and as Mermaid."""
    arguments = ("trace", "alert.flood_state.peak_cm", "--down", "--format")
    dot = river(*arguments, "dot").out
    assert dot.startswith("digraph lineage {")
    assert '"alert.flood_state.peak_cm" -> "consumer:flood_map" [label=copied, style=solid];' in dot
    mermaid = river(*arguments, "mermaid").out
    assert mermaid.startswith("flowchart LR")
    assert '[["consumer:flood_map"]]' in mermaid
    assert mermaid.count("-->") == dot.count("->") == 4


def test_lineage_as_openlineage_events(river: Program) -> None:
    """An event per part that makes or fills a table, with the column-lineage facet."""
    lines = river("trace", "--all", "--format", "openlineage").out.splitlines()
    events = {event["job"]["name"]: event for event in map(json.loads, lines)}
    hourly = events["model:hydro.hourly_level"]
    assert set(hourly) == {"eventTime", "producer", "schemaURL", "job", "inputs", "outputs"}
    assert hourly["inputs"] == [{"namespace": "riverwatch", "name": "hydro.reading_clean"}]
    (output,) = hourly["outputs"]
    facet = output["facets"]["columnLineage"]
    assert facet["fields"]["gauge_id"]["inputFields"] == [
        {
            "namespace": "riverwatch",
            "name": "hydro.reading_clean",
            "field": "gauge_id",
            "transformations": [{"type": "DIRECT", "subtype": "IDENTITY"}],
        }
    ]
    assert {entry["field"] for entry in facet["dataset"]} == {"gauge_id", "taken_at"}
    forecast = events["notebook:level_forecast"]["outputs"][0]["facets"]["columnLineage"]["fields"]
    sources = {e["field"] for e in forecast["forecast_cm"]["inputFields"]}
    assert sources == {"gauge_id", "hour", "mean_cm"}
    said = river("trace", "hydro.gauge", "--format", "openlineage", code=2).err
    assert "--all --format openlineage" in said


def test_a_picture_shows_every_node(river: Program) -> None:
    """From left to right, the same each time; an SVG keeps its names as text."""
    said = river("trace", "raw.reading.level_cm", "--down", "--picture", "a.svg")
    assert "a.svg shows" in said.out
    river("trace", "raw.reading.level_cm", "--down", "--picture", "b.svg")
    one, other = ((river.folder / name).read_text() for name in ("a.svg", "b.svg"))
    assert one == other
    river("trace", "alert.flood_state", "--picture", "c.png")
    assert (river.folder / "c.png").read_bytes().startswith(b"\x89PNG")
    river("trace", "--all", "--picture", "tables.svg")
    river("trace", "--all", "--columns", "--picture", "columns.svg")
    tables, columns = ((river.folder / f"{n}.svg").read_text() for n in ("tables", "columns"))
    assert "hydro.hourly_level" in tables
    assert ("peak_cm" in columns, "peak_cm" in tables) == (True, False)
    assert "go with --picture" in river("trace", "--all", "--columns", code=2).text
    assert "an .svg or a .png" in river("trace", "--all", "--picture", "x.bmp", code=2).text


def test_a_picture_of_more_than_can_be_read_shows_schemas(
    river: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """And kinds of part, unless each of them is asked for."""
    assert f"of more than {pictures.MOST_BOXES}, their schemas" in river("trace", "--help").text
    monkeypatch.setattr(pictures, "MOST_BOXES", 5)
    said = river("trace", "--all", "--picture", "afar.svg")
    assert "between schemas and kinds of part, as there are 22 tables and parts" in said.text
    assert "schemas" not in river("trace", "--all", "--tables", "--picture", "all.svg").text
    river("trace", "hydro.daily_peak", "--depth", "1", "--picture", "near.svg")
    afar, everything, near = (
        (river.folder / f"{name}.svg").read_text() for name in ("afar", "all", "near")
    )
    assert ("hydro.*" in afar, "flow:*" in afar, "hydro.daily_peak" in afar) == (True, True, False)
    assert ("hydro.*" in everything, "hydro.daily_peak" in everything) == (False, True)
    assert ("hydro.*" in near, "hydro.daily_peak" in near) == (False, True)
    assert "go with --picture" in river("trace", "--all", "--tables", code=2).text


def test_openlineage_events_fit_the_standard(river: Program) -> None:
    """Each has what the specification requires of an event, its job, and its column lineage."""
    lines = river("trace", "--all", "--format", "openlineage").out.splitlines()
    events = [json.loads(line) for line in lines]
    assert len(events) > 10
    for event in events:
        assert {"eventTime", "producer", "schemaURL", "job"} <= event.keys()
        assert event["schemaURL"].startswith("https://openlineage.io/spec/")
        assert {"namespace", "name"} <= event["job"].keys()
        for dataset in (*event["inputs"], *event["outputs"]):
            assert {"namespace", "name"} <= dataset.keys()
        for output in event["outputs"]:
            facet = output["facets"]["columnLineage"]
            assert {"_producer", "_schemaURL", "fields"} <= facet.keys()
            for field in facet["fields"].values():
                for source in field["inputFields"]:
                    assert {"namespace", "name", "field"} <= source.keys()
                    for change in source["transformations"]:
                        assert change["type"] in {"DIRECT", "INDIRECT"}


class Terminal(io.StringIO):
    """Standard output that is a terminal."""

    def isatty(self) -> bool:
        return True


def test_a_person_gets_the_nearest_lines_and_what_there_is(
    plain: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A pipe gets everything; different things are counted, however often they are met."""
    for number in range(30):
        columns = ", ".join(f"x + {n} AS x{n}" for n in range(6))
        owner = "/*---\nowner = 'north'\n---*/\n" if number % 2 else ""
        plain.write(f"models/wide/m{number}.sql", f"{owner}SELECT x, {columns} FROM wide.start")
    plain.write("models/wide/start.sql", "SELECT amount AS x FROM ops.measurement")
    piped = plain("trace", "wide.start.x", "--down").out
    assert "affects 210 things" in piped.splitlines()[0]
    assert len(piped.splitlines()) == 211
    monkeypatch.setattr("tests.driver.io.StringIO", Terminal)
    shown = plain("trace", "wide.start.x", "--down").out
    assert len([line for line in shown.splitlines() if "──" in line]) == 100
    assert "by kind" in shown
    assert "column 210" in shown
    assert "north 105" in shown
    assert "The nearest 100 lines of 210:" in shown
    assert "... and 110 lines more" in shown
    assert plain("trace", "wide.start.x", "--down", "--depth", "1", "--json").json
