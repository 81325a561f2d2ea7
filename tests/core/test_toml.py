"""Line numbers of TOML keys."""

from __future__ import annotations

import pytest

from inchworm.core.toml import KeyPath, TomlProblem, read_toml

TEXT = '''\
about = """
[not.a.table]
x = 1
"""
[schedules.nightly]
cron = "15 2 * * *"   # = comment
[[steps]]
name = "a"
build = [
  "x = y",
]
[[steps]]
name = "b"
[steps.more]
"quoted.key" = 1
'''


@pytest.mark.parametrize(
    ("path", "line"),
    [
        (("about",), 1),
        (("schedules", "nightly"), 5),
        (("schedules", "nightly", "cron"), 6),
        (("steps", 0, "build"), 9),
        (("steps", 1, "name"), 13),
        (("steps", 1, "more", "quoted.key"), 15),
        (("steps", 1, "unknown"), 12),
    ],
    ids=str,
)
def test_lines(path: KeyPath, line: int) -> None:
    """Of every key, also behind multi-line strings and in arrays of tables."""
    assert read_toml(TEXT).line_of(path) == line


@pytest.mark.parametrize(("content", "line"), [(b"a = 1\nb = \n", 2), (b"a = 1\nb = \xff\n", 2)])
def test_what_is_not_toml_says_where(content: bytes, line: int) -> None:
    """A syntax error and a wrong encoding alike."""
    with pytest.raises(TomlProblem) as caught:
        read_toml(content)
    assert caught.value.line == line
