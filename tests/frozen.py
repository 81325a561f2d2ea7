"""Imported last by the process that others are forked from.

What has been imported by then is no garbage: forks that collect theirs need not look through it,
and share its memory.
"""

from __future__ import annotations

import gc

gc.collect()
gc.freeze()
