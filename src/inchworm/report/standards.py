"""Findings in the open formats that other tools read: SARIF 2.1.0 and JUnit XML."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections import defaultdict
from collections.abc import Iterable, Sequence
from typing import Any

from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.checks.rules import REGISTRY

_SARIF_SCHEMA = "https://json.schemastore.org/sarif-2.1.0.json"


def sarif_document(findings: Sequence[Finding], version: str) -> dict[str, Any]:
    """A SARIF log with one run: the rules that have something to say, and each finding.

    SARIF's levels have the names of our severities.
    """
    ids = sorted({finding.rule for finding in findings})
    rules = [
        {
            "id": id_,
            "shortDescription": {"text": REGISTRY[id_].what},
            "fullDescription": {"text": REGISTRY[id_].why},
            "help": {"text": REGISTRY[id_].remedy},
            "defaultConfiguration": {"level": REGISTRY[id_].severity.value},
        }
        for id_ in ids
    ]
    driver = {"name": "inchworm", "version": version, "rules": rules}
    return {
        "$schema": _SARIF_SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": driver},
                "results": [_result(finding, ids.index(finding.rule)) for finding in findings],
            }
        ],
    }


def _result(finding: Finding, index: int) -> dict[str, Any]:
    subject = f"{finding.part}: " if finding.part else ""
    result: dict[str, Any] = {
        "ruleId": finding.rule,
        "ruleIndex": index,
        "level": finding.severity.value,
        "message": {"text": f"{subject}{finding.message}\n{finding.remedy}"},
    }
    if finding.file is not None:
        place: dict[str, Any] = {"artifactLocation": {"uri": finding.file}}
        if finding.line:
            place["region"] = {"startLine": finding.line}
        result["locations"] = [{"physicalLocation": place}]
    return result


def junit_document(findings: Iterable[Finding], parts: Iterable[str]) -> str:
    """JUnit XML: a test case per part, and one for what concerns no part.

    Errors are failures; warnings and notes are told in ``system-out``.
    """
    by_part: dict[str, list[Finding]] = defaultdict(list)
    for finding in findings:
        by_part[finding.part or "project"].append(finding)
    cases = sorted({*parts, *by_part})
    suite = ET.Element("testsuite", name="inchworm check", tests=str(len(cases)))
    failures = 0
    for name in cases:
        kind, _, own = name.partition(":")
        case = ET.SubElement(suite, "testcase", classname=kind, name=own or kind)
        for finding in by_part[name]:
            text = f"{finding.place}: {finding.message}\n{finding.remedy}"
            if finding.severity is Severity.ERROR:
                failures += 1
                message = finding.message.splitlines()[0]
                ET.SubElement(case, "failure", type=finding.rule, message=message).text = text
        remarks = [f for f in by_part[name] if f.severity is not Severity.ERROR]
        if remarks:
            lines = (f"{f.severity.value} {f.rule} {f.place}: {f.message}" for f in remarks)
            ET.SubElement(case, "system-out").text = "\n".join(lines)
    suite.set("failures", str(failures))
    suite.set("errors", "0")
    suites = ET.Element("testsuites")
    suites.append(suite)
    ET.indent(suites)
    return ET.tostring(suites, encoding="unicode", xml_declaration=True)
