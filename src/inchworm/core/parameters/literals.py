"""Text that is written out in files: string literals, and what looks like a secret among them."""

from __future__ import annotations

import hashlib
import json
import math
import re
from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

_SHORTEST, _LONGEST = 3, 300

_SQL = re.compile(r"--[^\n]*|/\*.*?\*/|'((?:[^']|'')*)'", re.DOTALL)
_PYTHON = re.compile(
    r'#[^\n]*|"""(.*?)"""|"((?:\\.|[^"\\\n])*)"|\'((?:\\.|[^\'\\\n])*)\'', re.DOTALL
)
_YAML = re.compile(r'#[^\n]*|"((?:\\.|[^"\\\n])*)"|\'([^\'\n]*)\'|:[ \t]+([^\s"\'#{\[][^\n#]*)')
_BY_SUFFIX = {".sql": _SQL, ".py": _PYTHON, ".toml": _PYTHON, ".yaml": _YAML, ".yml": _YAML}


class Literal(NamedTuple):
    """A text that is written out in a file."""

    text: str
    file: str
    line: int


def literals_in(file: str, content: bytes) -> list[Literal]:
    """The string literals of a file, by the syntax that its name tells; comments left out."""
    text = content.decode("utf-8", "replace")
    suffix = file[file.rfind(".") :].lower()
    if suffix == ".sql" and "'" not in text:
        return []
    if suffix == ".ipynb":
        return _of_notebook(file, text)
    pattern = _BY_SUFFIX.get(suffix, _YAML if suffix == ".json" else None)
    return [] if pattern is None else list(_matches(pattern, text, file))


def _matches(pattern: re.Pattern[str], text: str, file: str, first: int = 1) -> Iterator[Literal]:
    at, line = 0, first
    for match in pattern.finditer(text):
        value = match.group(match.lastindex) if match.lastindex else None
        if value is None or not _SHORTEST <= len(value.strip()) <= _LONGEST or "${" in value:
            continue
        line += text.count("\n", at, match.start())
        at = match.start()
        yield Literal(value.strip(), file, line)


def _of_notebook(file: str, text: str) -> list[Literal]:
    try:
        cells = json.loads(text)["cells"]
        sources = [c["source"] for c in cells if c["cell_type"] == "code"]
    except (ValueError, KeyError, TypeError):
        return []  # reported when the notebook is read
    lines = [n for n, line in enumerate(text.splitlines(), start=1) if '"source":' in line]
    literals = []
    for i, source in enumerate(sources):
        code = source if isinstance(source, str) else "".join(source)
        first = lines[i] if i < len(lines) else 1
        literals += list(_matches(_PYTHON, code, file, first))
    return literals


class Suspect(NamedTuple):
    """A text that looks like a secret. The text itself is kept nowhere."""

    what: str
    line: int
    fingerprint: str
    """Six hexadecimal digits by which one suspect can be told from another."""


_TELLING = (
    r"pass(?:word|wd|phrase)?|pwd|secret|token|credential"
    r"|api[_-]?key|access[_-]?key|private[_-]?key"
)
_TRACES = (
    *("pass", "pwd", "secret", "token", "credential", "api", "access", "private", "://", "eyj"),
    *("akia", "asia", "ghp_", "gho_", "ghu_", "ghs_", "ghr_", "xox", "sk_live_", "glpat-"),
)
"""One of these is in every text that has anything that looks like a secret, in lower case."""

_IN_URL = re.compile(r"(?i)\b[a-z][a-z0-9+.-]*://[^/\s:@\"']+:([^/\s@\"'$]+)@")
_PRIVATE_KEY = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY-----")
_SIGNED_TOKEN = re.compile(r"\beyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}")
_KNOWN_KEYS = re.compile(
    r"\b(?:(?:AKIA|ASIA)[A-Z0-9]{16}|gh[pousr]_[A-Za-z0-9]{30,}|xox[abp]-[A-Za-z0-9-]{20,}"
    r"|sk_live_[A-Za-z0-9]{16,}|glpat-[A-Za-z0-9_-]{20,})\b"
)
_NAMED = re.compile(
    rf"(?i)[\w.-]*(?:{_TELLING})[\w.-]*[\"']?\s*(?:=|:|=>)\s*[\"']([^\"'\s]{{8,}})[\"']"
)
_REFERENCE = re.compile(
    r"^(?:\$\{.*\}|(?:env|file|secret):.*|<.*>|\*+|x+|[.]+|:\w+)$", re.IGNORECASE
)
_ENTROPY = 2.8
"""Bits per letter above which a value is no ordinary word."""


def suspects_in(content: bytes, *, is_json: bool = False) -> list[Suspect]:
    """What looks like a key, a token or a password in a file, each with its line.

    Args:
        content: the file; in program text that a notebook put out, only keys of known forms.
        is_json: strings are escaped, so that quotes within them are.
    """
    text = content.decode("utf-8", "replace")
    lower = text.lower()
    if not any(trace in lower for trace in _TRACES):  # quickly, for there are many files
        return []
    written = _without_programs(text) if is_json else text
    if is_json:
        text, written = (t.replace('\\"', '"').replace("\\n", " ") for t in (text, written))
    suspects: dict[tuple[int, str], Suspect] = {}
    for pattern, what in (
        (_PRIVATE_KEY, "a private key"),
        (_IN_URL, "a password in an address"),
        (_SIGNED_TOKEN, "a signed token"),
        (_KNOWN_KEYS, "an access key"),
        (_NAMED, "a secret under a telling name"),
    ):
        for match in pattern.finditer(written if pattern is _NAMED else text):
            value = match.group(match.lastindex or 0)
            if pattern is _NAMED and not _is_secret_like(value):
                continue
            if _REFERENCE.match(value):
                continue
            line = text.count("\n", 0, match.start()) + 1
            mark = hashlib.sha256(value.encode()).hexdigest()[:6]
            suspects.setdefault((line, mark), Suspect(what, line, mark))
    return list(suspects.values())


_OUTPUTS = re.compile(r'"outputs":\s*(?=\[)')


_LINE = re.compile(r"(?:(?!\\n)[^\n])+")
_MINIFIED = 400
"""Letters of a line that nobody wrote by hand."""


def _without_programs(text: str) -> str:
    """A notebook, on the same lines, without minified program text among what its cells put out."""
    pieces, at = [], 0
    for match in _OUTPUTS.finditer(text):
        if match.end() < at:
            continue
        try:
            _, end = json.JSONDecoder().raw_decode(text, match.end())
        except ValueError:
            continue
        put_out = text[match.end() : end]
        pieces += [
            text[at : match.end()],
            _LINE.sub(lambda line: "" if len(line[0]) > _MINIFIED else line[0], put_out),
        ]
        at = end
    return "".join([*pieces, text[at:]])


def is_telling(name: str) -> bool:
    """Whether a name says that it stands for a secret."""
    return re.search(rf"(?i)(?:^|[_.-])(?:{_TELLING})s?$", name) is not None


def _is_secret_like(value: str) -> bool:
    """Whether a value is no ordinary word: many different letters, or letters mixed with digits."""
    if _REFERENCE.match(value):
        return False
    counts = Counter(value)
    entropy = -sum(n / len(value) * math.log2(n / len(value)) for n in counts.values())
    mixed = any(c.isdigit() for c in value) and any(c.isalpha() for c in value)
    return entropy >= _ENTROPY and (mixed or len(value) >= 20 or not value.isalpha())
