"""Wheels of libraries: as the format says, and as pip takes them."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import zipfile

import pytest
from packaging.utils import parse_wheel_filename

from inchworm.core.bundle.wheel import build_wheel, wheel_version

FILES = {"river_lib/__init__.py": b"", "river_lib/error.py": "é = 1\n".encode()}


def test_it_is_what_the_format_says() -> None:
    name, content = build_wheel("river_lib", "1.4.0", FILES, ['scipy>=1.11; os_name == "x"'], ">=3")
    assert name == "river_lib-1.4.0-py3-none-any.whl"
    parse_wheel_filename(name)
    with zipfile.ZipFile(io.BytesIO(content)) as wheel:
        contents = {path: wheel.read(path) for path in wheel.namelist()}
    record = list(csv.reader(io.StringIO(contents["river_lib-1.4.0.dist-info/RECORD"].decode())))
    assert [path for path, _, _ in record] == list(contents)
    for path, digest, size in record[:-1]:
        sha = hashlib.sha256(contents[path]).digest()
        assert digest == f"sha256={base64.urlsafe_b64encode(sha).decode().rstrip('=')}"
        assert int(size) == len(contents[path])
    metadata = contents["river_lib-1.4.0.dist-info/METADATA"].decode()
    assert 'Requires-Dist: scipy>=1.11; os_name == "x"\n' in metadata
    assert "Requires-Python: >=3\n" in metadata
    assert build_wheel("river_lib", "1.4.0", FILES, ['scipy>=1.11; os_name == "x"'], ">=3") == (
        name,
        content,
    ), "equal libraries give equal bytes"


@pytest.mark.parametrize(
    ("version", "known"),
    [
        ("1.4.0", "1.4.0"),
        ("1.4.0-snapshot.7b2bf5b9", "1.4.0+snapshot.7b2bf5b9"),
        ("1.4.0-rc.1", "1.4.0rc1"),
        ("2026-Spring", "0+2026.spring"),
    ],
)
def test_versions_are_those_of_python(version: str, known: str) -> None:
    assert wheel_version(version) == known
    parse_wheel_filename(build_wheel("x", version, {})[0])
