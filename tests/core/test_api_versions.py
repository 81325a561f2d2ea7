"""Versions of an API side by side: which of them answer."""

from __future__ import annotations

from inchworm.core.running.api_versions import ApiState, ApiVersion, states


def version(flow: str, number: int, *, is_live: bool = False) -> ApiVersion:
    return ApiVersion(
        flow=flow, version=str(number), number=number, document="", put_at="", is_live=is_live
    )


def standing(keep: int, *versions: ApiVersion) -> list[tuple[str, str, str]]:
    return [(each.flow, each.version, state.value) for each, state in states(versions, keep)]


def test_the_live_one_answers_and_as_many_before_it_as_are_kept() -> None:
    """Each flow by itself, its latest version first."""
    ours = (version("a", 1), version("a", 2), version("a", 3, is_live=True))
    other = version("b", 1, is_live=True)
    live, answered, retired = ApiState.LIVE.value, ApiState.ANSWERED.value, ApiState.RETIRED.value
    assert standing(2, *ours, other) == [
        ("a", "3", live),
        ("a", "2", answered),
        ("a", "1", retired),
        ("b", "1", live),
    ]
    assert standing(1, *ours) == [("a", "3", live), ("a", "2", retired), ("a", "1", retired)]
    assert standing(3, *ours)[2] == ("a", "1", answered)
