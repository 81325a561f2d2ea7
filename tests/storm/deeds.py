"""What happens in a month, and how often."""

from __future__ import annotations

import random
from collections.abc import Callable

from tests.storm import hands, promoting, running, writing
from tests.storm.team import Team
from tests.storm.truth import Place

Deed = Callable[[Team, random.Random], Place | None]
"""Does something to the project or an environment, and to the truth; the environment."""

DEEDS: dict[str, tuple[Deed, int]] = {
    "add a model": (writing.add_model, 8),
    "edit a model": (writing.edit_model, 8),
    "remove a model": (writing.remove_model, 2),
    "rename a model": (writing.rename_model, 2),
    "migrate": (writing.migrate, 6),
    "want": (writing.want, 4),
    "write a check": (writing.write_check, 2),
    "edit the notebook": (writing.edit_notebook, 1),
    "take over": (writing.take_over, 1),
    "rename an environment": (writing.rename_environment, 1),
    "add an environment": (writing.add_environment, 1),
    "promote": (promoting.promote, 14),
    "promote by exception": (promoting.promote_by_exception, 1),
    "promote some": (promoting.promote_some, 5),
    "promote later": (promoting.promote_later, 3),
    "promote, killed": (promoting.promote_killed, 3),
    "roll back": (promoting.roll_back, 4),
    "hold": (promoting.hold, 3),
    "lift": (promoting.lift, 3),
    "run": (running.run, 4),
    "run a flow": (running.run_flow, 4),
    "run a notebook": (running.run_notebook, 1),
    "rows come": (hands.rows_come, 8),
    "a file comes": (hands.file_comes, 4),
    "a column by hand": (hands.dba_column, 2),
    "a table by hand": (hands.dba_table, 2),
    "a right by hand": (hands.grant, 2),
    "adopt": (hands.adopt, 2),
    "days pass": (hands.days_pass, 2),
    "lose the ledger": (hands.lose_ledger, 1),
    "another ledger": (hands.another_ledger, 1),
    "back up": (hands.back_up, 3),
}
"""Each deed, and how often it is done."""
