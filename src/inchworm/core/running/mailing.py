"""Mails: texts with ``{field}`` in them, and the message about one row."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping

from inchworm.core.parts import digest_of
from inchworm.core.running.sending import Message, json_value

_PLACEHOLDER = re.compile(r"(?<!\$)\{([A-Za-z_]\w*)\}")

TEXTS = ("address", "subject", "text")
"""What a mail has, as a flow's end names it."""


def placeholders(text: str) -> set[str]:
    """The fields that a text asks for; ``${parameter}`` is none."""
    return set(_PLACEHOLDER.findall(text))


def filled(text: str, values: Mapping[str, object]) -> str:
    """A text with the values of a row in it; of a value that is missing, nothing."""

    def value_of(match: re.Match[str]) -> str:
        value = json_value(values[match[1]]) if match[1] in values else match[0]
        return "" if value is None else str(value)

    return _PLACEHOLDER.sub(value_of, text)


def mail_of(
    row: Mapping[str, object],
    fields: Mapping[str, str],
    texts: Mapping[str, str],
    once_per: Iterable[str] = (),
) -> Message:
    """The mail about one row.

    Args:
        row: the row's values, by column in lower case.
        fields: the column that each field of the texts comes from.
        texts: the address, the subject and the text.
        once_per: columns by which a row is told apart from others; by default the whole mail is.
    """
    values = {name: row[column.lower()] for name, column in fields.items()}
    body = {name: filled(texts[name], values) for name in TEXTS}
    distinguishing = [json_value(row[c.lower()]) for c in once_per] or body
    identity = digest_of(json.dumps(distinguishing, ensure_ascii=False, sort_keys=True).encode())
    return Message(identity=identity.rpartition(":")[2], path="", body=body)
