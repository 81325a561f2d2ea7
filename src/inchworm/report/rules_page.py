"""The page about all rules, made from the rules themselves.

``python -m inchworm.report.rules_page > docs/rules.md`` writes it anew.
"""

from __future__ import annotations

from itertools import groupby

from inchworm.core.checks.rules import REGISTRY, Rule


def rules_page() -> str:
    """The page in Markdown, families in alphabetical order."""
    lines = [
        "# Rules",
        "",
        "Every finding carries the id of one of these. `inchworm check --explain RULE` prints one.",
        "This page is made from the rules themselves.",
    ]
    by_id = sorted(REGISTRY.values(), key=lambda rule: rule.id)
    for family, rules in groupby(by_id, key=lambda rule: rule.id.partition("/")[0]):
        lines += ["", f"## {family}"]
        for rule in rules:
            lines += ["", f"### {rule.id}", "", *_paragraphs(rule)]
    return "\n".join(lines) + "\n"


def _paragraphs(rule: Rule) -> list[str]:
    return [
        f"*{rule.severity.value}* · {rule.what}",
        "",
        f"{rule.why}",
        "",
        f"**What to do:** {rule.remedy}",
    ]


if __name__ == "__main__":
    print(rules_page(), end="")
