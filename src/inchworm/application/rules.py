"""The rules in force: which files say what an environment demands, and who may approve."""

from __future__ import annotations

from msgspec import Struct

from inchworm.application.workplace import Workplace
from inchworm.core.entry.conditions import NO_CONDITIONS, EntryConditions
from inchworm.core.entry.people import FILE as PEOPLE
from inchworm.core.entry.people import People
from inchworm.core.entry.rules import Rules
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import ProjectError
from inchworm.project.git import commit_of, some_files_at
from inchworm.project.people import people_in, read_people
from inchworm.project.tree import conditions_in


class RulesInForce(Struct, frozen=True, kw_only=True):
    """What is demanded of what goes into an environment, and by whom it can be given."""

    conditions: EntryConditions
    people: People
    rules: Rules


def rules_in_force(workplace: Workplace, environment: Environment) -> RulesInForce:
    """Return the rules of an environment, read from the files now.

    With ``rules_from`` they are those that are committed on that branch, and nothing else counts.

    Raises:
        ProjectError: when a file is wrong, or the branch is not here.
    """
    project = workplace.project
    conditions, people = project.conditions_of(environment), read_people(workplace.root)
    files = (environment.file, PEOPLE)
    branch = conditions.rules_from
    if branch:
        commit = commit_of(workplace.root, branch)
        committed = some_files_at(workplace.root, commit, files) if commit else {}
        if commit is None or environment.file not in committed:
            raise ProjectError(
                f"the rules are those on {branch}, and {branch} is not here or lacks this file.",
                where=environment.file,
                next=f"git fetch origin {branch}",
            )
        conditions = conditions_in(environment.file, committed[environment.file])
        people = people_in(committed.get(PEOPLE, b""))
    else:
        is_asked = conditions != NO_CONDITIONS or environment.protected
        commit = commit_of(workplace.root, "HEAD") if is_asked else None
        checked_out = {path: project.contents[path] for path in files if path in project.contents}
        if commit is None or some_files_at(workplace.root, commit, files) != checked_out:
            commit = ""
    rules = Rules.of(conditions, environment.protected, people, commit, branch)
    return RulesInForce(conditions=conditions, people=people, rules=rules)
