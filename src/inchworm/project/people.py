"""Reading ``people.toml``."""

from __future__ import annotations

from pathlib import Path

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.entry.people import FILE, People, Person
from inchworm.core.errors import ProjectError
from inchworm.core.toml import TomlProblem, read_toml
from inchworm.project.file_index import read_file


def read_people(root: Path) -> People:
    """Everybody whom a project names; nobody where it has no such file.

    Raises:
        ProjectError: when the file is wrong, or two people have one key or one name.
    """
    path = root / FILE
    return people_in(read_file(root, FILE)) if path.is_file() else People()


def people_in(content: bytes) -> People:
    """Everybody whom a file names; nobody where it is empty.

    Raises:
        ProjectError: when the file is wrong, or two people have one key or one name.
    """
    if not content.strip():
        return People()
    from inchworm.kinds.settings import validate
    from inchworm.project.people_settings import PeopleFile

    try:
        document = read_toml(content)
    except TomlProblem as problem:
        where = f"{FILE}:{problem.line}" if problem.line else FILE
        raise ProjectError(problem.reason, where=where, next="Mend the line.") from problem
    faults: list[Finding] = []
    settings = validate(PeopleFile, document, None, FILE, faults.append)
    if settings is None:
        raise ProjectError(f"{faults[0].message}.", where=faults[0].place, next=faults[0].remedy)
    people: dict[str, Person] = {}
    for name, each in settings.people.items():
        person = each.person(name)
        for other in people.values():
            if {key.public for key in person.keys} & {key.public for key in other.keys}:
                raise _twice(
                    f"{name} and {other.name} have one key", document.line_of(("people", name))
                )
            if any(other.is_called(called) for called in (name, *person.also)):
                raise _twice(
                    f"{name} and {other.name} have one name", document.line_of(("people", name))
                )
        people[name] = person
    return People(people)


def people_findings(root: Path) -> list[Finding]:
    """What is wrong with ``people.toml``; the first fault, as reading stops there."""
    try:
        read_people(root)
    except ProjectError as error:
        file, _, line = (error.where or FILE).partition(":")
        finding = rules.MALFORMED.finding(
            error.what.rstrip("."),
            file=file,
            line=int(line) if line else None,
            remedy=error.next,
        )
        return [finding]
    return []


def _twice(what: str, line: int | None) -> ProjectError:
    where = f"{FILE}:{line}" if line else FILE
    return ProjectError(
        f"{what}.", where=where, next="Each person has names and a key of their own."
    )
