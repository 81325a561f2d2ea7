"""What DuckDB has, and another database lacks in any form that the parser could write instead."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from sqlglot import exp

from inchworm.core.sql.names import line_around

_OTHERS = frozenset({"postgres", "sqlite"})


class Form(NamedTuple):
    """A form of DuckDB in a query.

    Attributes:
        name: what it is called.
        lacking: the dialects of the databases that lack it, sorted.
        line: the line of the query on which it stands.
    """

    name: str
    lacking: tuple[str, ...]
    line: int | None


def forms_of(nodes: Mapping[type[exp.Expr], Sequence[exp.Expr]]) -> Iterator[Form]:
    """The forms in a query of DuckDB's dialect that other databases lack.

    Args:
        nodes: the nodes of the query by their kind.
    """
    for kind, some in nodes.items():
        if kind not in _PARTLY and kind.__name__ not in _OF_KINDS:
            continue
        for node in some:
            name, lacking = _named(node)
            if lacking:
                yield Form(name, tuple(sorted(lacking)), line_around(node))


_PARTLY = frozenset(
    {exp.Anonymous, exp.Star, exp.Join, exp.Columns, exp.Lambda, exp.Comprehension, exp.Pivot}
)
"""Kinds of nodes of which some are such forms, or which are no functions."""


def _named(node: exp.Expr) -> tuple[str, frozenset[str]]:
    """What a node is called, and who lacks it."""
    if isinstance(node, exp.Anonymous):
        name = str(node.this).lower()
        return name, _OF_NAMES.get(name, frozenset())
    if words := _words(node):
        return words, _OTHERS
    name = node.sql_name().lower() if isinstance(node, exp.Func) else ""
    return name, _OF_KINDS.get(type(node).__name__, frozenset())


def _words(node: exp.Expr) -> str:
    """What a form is called that is no function; empty where it is none of DuckDB's."""
    match node:
        case exp.Star() if node.args.get("except_"):
            return "* EXCLUDE"
        case exp.Star() if node.args.get("replace"):
            return "* REPLACE"
        case exp.Star() if node.args.get("rename"):
            return "* RENAME"
        case exp.Join() if node.method.upper() in {"ASOF", "POSITIONAL"}:
            return f"{node.method.upper()} JOIN"
        case exp.Columns():
            return "COLUMNS(...)"
        case exp.Lambda():
            return "a lambda"
        case exp.Comprehension():
            return "a list comprehension"
        case exp.Struct():
            return "a struct"
        case exp.Pivot():
            return "UNPIVOT" if node.unpivot else "PIVOT"
    return ""


def _by_name(**words: str) -> dict[str, frozenset[str]]:
    """The dialects that lack each name, from the names that both lack, and either."""
    lacking: dict[str, frozenset[str]] = {}
    for dialects, names in words.items():
        missing = _OTHERS if dialects == "both" else frozenset({dialects})
        lacking |= dict.fromkeys(names.split(), missing)
    return lacking


_OF_NAMES = _by_name(
    both="""
    aggregate arbitrary arg_max_null arg_max_nulls_last arg_min_null arg_min_nulls_last array_aggr
    array_aggregate array_apply array_cosine_distance array_cosine_similarity array_cross_product
    array_distance array_dot_product array_extract array_grade_up array_has_any array_indexof
    array_inner_product array_negative_dot_product array_negative_inner_product array_pop_back
    array_pop_front array_push_back array_push_front array_reduce array_resize array_select
    array_transform array_unique array_value array_where array_zip base64 bit_position bitstring
    bitstring_agg century count_star damerau_levenshtein date_sub datepart datesub days_in_month
    decade decimal_average decimal_division element_at entropy enum_code enum_range_boundary
    epoch_ns epoch_us favg fdiv fmod format_bytes from_binary from_json_strict fsum gamma geomean
    geometric_mean get_current_timestamp get_type grade_up greatest_common_divisor hamming
    histogram histogram_exact isoyear jaccard jaro_similarity json_contains json_deep_merge
    json_group_structure json_merge_patch json_merge_patch_diff json_normalize json_pretty
    json_structure json_transform json_transform_strict julian kahan_sum kurtosis_pop
    least_common_multiple left_grapheme length_grapheme lgamma list_aggr list_aggregate
    list_any_value list_apply list_approx_count_distinct list_avg list_bit_and list_bit_or
    list_bit_xor list_bool_and list_bool_or list_cat list_cosine_similarity list_count
    list_dot_product list_element list_entropy list_extract list_first list_grade_up list_has_all
    list_histogram list_indexof list_inner_product list_intersect list_kurtosis list_kurtosis_pop
    list_last list_mad list_median list_mode list_negative_dot_product list_negative_inner_product
    list_pack list_position list_product list_reduce list_resize list_reverse list_select list_sem
    list_skewness list_slice list_stddev_pop list_stddev_samp list_string_agg list_sum list_unique
    list_var_pop list_var_samp list_where list_zip mad make_timestamp_ms make_timestamp_ns
    map_concat map_contains map_contains_entry map_contains_value map_entries map_extract
    map_extract_value map_values md5_number md5_number_lower md5_number_upper mean microsecond
    millennium millisecond nanosecond nextafter nfc_normalize ord parse_dirname parse_dirpath
    parse_filename parse_formatted_bytes parse_path path_join product regexp_escape
    reservoir_quantile right_grapheme round_even roundbankers sem signbit strip_accents strlen
    struct_concat struct_contains struct_extract_at struct_has struct_indexof struct_insert
    struct_keys struct_position struct_update struct_values substring_grapheme sum_no_overflow
    sumkahan timezone_hour timezone_minute to_base to_centuries to_decades to_hours
    to_microseconds to_millennia to_milliseconds to_minutes to_months to_quarters to_seconds
    to_weeks to_years try_strptime union_extract union_tag union_value unpivot_list url_decode
    url_encode uuid_extract_timestamp uuid_extract_version uuidv4 wavg weekday weighted_avg
    yearweek
    """,
    postgres="json_group_object json_insert json_quote json_replace json_valid printf",
    sqlite="""
    age array_to_json bit_count cardinality date_part enum_first enum_last enum_range gcd
    generate_subscripts isfinite lcm like_escape make_timestamptz now octet_length
    regexp_split_to_array regexp_split_to_table row_to_json setseed timezone to_json
    transaction_timestamp
    """,
)
"""Functions that the parser does not know, as it writes their names in any dialect."""

_OF_KINDS = _by_name(
    both="""
    ApproxDistinct ApproxQuantile ApproxTopK ArgMax ArgMin ArrayContains ArrayDistinct
    ArrayIntersect ArrayMax ArrayMin ArrayReverse ArraySlice ArraySort Contains CosineDistance
    DateFromParts DayOfMonth DayOfWeek DayOfWeekIso DayOfYear Dayname EndsWith EuclideanDistance
    Flatten FromBase64 FromJson Hour IsInf IsNan JSONKeys JarowinklerSimilarity Kurtosis Map
    MapKeys Minute Monthname Quantile Quarter Reduce RegexpExtract RegexpExtractAll
    RegexpFullMatch RegexpSplit SHA Second Skewness Split Struct ToBase64 ToBinary Transform Unhex
    Week WeekOfYear
    """,
    postgres="Hex JSONRemove JSONSet JSONType Typeof",
    sqlite="""
    Array ArrayAgg ArrayAppend ArrayConcat ArrayPosition ArrayPrepend ArraySize ArrayToString
    Ascii BitLength BitwiseAndAgg BitwiseOrAgg BitwiseXorAgg Cbrt Corr Cot CovarPop CovarSamp
    DateBin Day Decode Encode Factorial GenerateSeries Getbit JSONStripNulls LastDay MD5
    MapFromEntries Median Mode Month Overlay Pad PercentileCont PercentileDisc RegexpReplace
    RegrAvgx RegrAvgy RegrCount RegrIntercept RegrR2 RegrSlope RegrSxx RegrSxy RegrSyy Repeat
    Reverse SHA2 SplitPart StartsWith Stddev StddevPop StddevSamp StrToTime StructExtract
    TimeFromParts TimeToUnix TimestampFromParts TimestampTrunc Translate UnixToTime Uuid Variance
    VariancePop Year
    """,
)
"""Functions that the parser knows, by its names for them."""
