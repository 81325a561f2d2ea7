"""What services have otherwise than promotions put it, leaf by leaf."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping

from inchworm.core.environments.items import Leaf, changed_leaves
from inchworm.core.identifiers import PartId
from inchworm.engine.connections import open_environment
from inchworm.engine.preparation import Prepared
from inchworm.targets.machine import Machine


def item_changes(
    prepared: Prepared, machine: Machine, parts: Iterable[PartId]
) -> Mapping[PartId, list[Leaf]]:
    """The leaves of some items that somebody changed.

    Args:
        prepared: what runs in the environment, with the values of then.
        machine: where the project is, with its environment variables.
        parts: the items' parts; those that are not there are left out.

    Raises:
        TargetError: when the environment cannot be reached.
    """
    changes: dict[PartId, list[Leaf]] = {}
    with open_environment(
        prepared.environment, prepared.bundle.project, machine, prepared.values, read_only=True
    ) as place:
        items = place.items()
        for part in parts:
            if part in items and part in prepared.reading.assembly.parts:
                put = json.loads(json.dumps(prepared.rendered[part].document))
                now = place.service_of(part).document(part)
                changes[part] = list(changed_leaves(put, now))
    return changes
