"""Files that have arrived for copying flows, and wait to be taken."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Mapping
from contextlib import closing
from typing import Any

from inchworm.core.environments.environment import Environment
from inchworm.core.errors import InchwormError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parameters.values import read_duration
from inchworm.core.running.copying import FileStanding, ListedFile, TakenFile, standing
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.targets.databases.sent_rows import TakenFiles
from inchworm.targets.file_places import FilePlace
from inchworm.targets.machine import Machine
from inchworm.targets.secrets import Secrets


def looked_at(
    document: Mapping[str, Any],
    source: FilePlace,
    taken: Mapping[str, TakenFile],
    now: dt.datetime,
) -> list[tuple[ListedFile, FileStanding]]:
    """The files that a copying flow's pattern matches, each with where it stands.

    Raises:
        TargetError: when the folder cannot be listed.
    """
    rests = read_duration(str(document.get("settled", "0s")))
    files = source.listing(document["from"]["files"])
    return [(listed, standing(listed, taken, now, rests)) for listed in files]


def files_waiting(
    flows: Collection[str],
    place: OpenEnvironment,
    environment: Environment,
    machine: Machine,
    now: dt.datetime,
) -> tuple[dict[str, list[ListedFile]], tuple[str, ...]]:
    """The files that copying flows would take now, by flow, and why some could not be looked for.

    Args:
        flows: the names of the flows.
        place: the open environment.
        environment: its settings.
        machine: where the project is, with its environment variables.
        now: the present time.
    """
    waiting: dict[str, list[ListedFile]] = {}
    troubles = []
    for name in sorted(flows):
        try:
            waiting[name] = _waiting(name, place, environment, machine, now)
        except InchwormError as error:
            troubles.append(f"flow:{name}: {error}")
        except KeyError:
            troubles.append(f"flow:{name} is no copying flow that is live.")
    return waiting, tuple(troubles)


def _waiting(
    name: str,
    place: OpenEnvironment,
    environment: Environment,
    machine: Machine,
    now: dt.datetime,
) -> list[ListedFile]:
    document = place.gateway.document(PartId(Kind.FLOW, name))
    connection = place.gateway.document(PartId(Kind.CONNECTION, document["from"]["connection"]))
    machine.trust.check_place(str(connection["url"]))
    with closing(Secrets(machine, environment.secret_store)) as secrets:
        references = connection.get("credentials", {})
        credentials = {
            key: secrets.resolve(each, str(connection["url"])) for key, each in references.items()
        }
    source = FilePlace.of(connection, credentials, machine)
    marks = TakenFiles(place.database, place.bookkeeping.schema, place.project, name)
    taken = marks.all() if place.bookkeeping.has(marks.name) else {}
    return [
        listed
        for listed, stands in looked_at(document, source, taken, now)
        if stands is FileStanding.NEW
    ]
