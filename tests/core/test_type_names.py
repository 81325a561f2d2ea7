"""Types that are looked up are spelled as the parser spells them."""

from __future__ import annotations

import pytest

from inchworm.core.sql.type_names import COMMON, SIZED, normal_type, parsed_type


@pytest.mark.parametrize(
    ("dialect", "text"), [(dialect, text) for dialect, types in COMMON.items() for text in types]
)
def test_a_common_type_is_spelled_as_the_parser_spells_it(dialect: str, text: str) -> None:
    assert normal_type(text, dialect) == parsed_type(text, dialect)


@pytest.mark.parametrize(
    ("dialect", "text"), [(dialect, text) for dialect, types in SIZED.items() for text in types]
)
@pytest.mark.parametrize("size", ["40", "10,2"])
def test_so_is_one_with_a_length_or_a_precision_and_scale(
    dialect: str, text: str, size: str
) -> None:
    if text.startswith("character") and "," in size:
        pytest.skip("a text has a length alone")
    assert normal_type(f"{text}({size})", dialect) == parsed_type(f"{text}({size})", dialect)
