"""``inchworm trace``."""

from __future__ import annotations

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
    """What a column feels is felt from there."""
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
