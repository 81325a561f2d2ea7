"""Whether a query only reads: no statement inside, no lock, no call that is known to write."""

from __future__ import annotations

import re

from sqlglot import exp

from inchworm.core.sql.names import line_of
from inchworm.core.sql.problems import NameFromParameter, WritingQuery

STATEMENTS = (exp.DDL, exp.DML, exp.Drop, exp.Alter, exp.Command)
_WRITES = (*STATEMENTS, exp.Into, exp.TruncateTable)

_CALLS = frozenset(
    [
        "nextval",
        "setval",
        "set_config",
        "pg_notify",
        "pg_logical_emit_message",
        "lo_import",
        "lo_export",
        "lo_create",
        "lo_creat",
        "lo_unlink",
        "lo_put",
        "lo_from_bytea",
        "lowrite",
        "lo_truncate",
        "pg_file_write",
        "pg_file_unlink",
        "pg_file_rename",
        "pg_file_sync",
        "pg_import_system_collations",
        "pg_terminate_backend",
        "pg_cancel_backend",
        "pg_reload_conf",
        "pg_rotate_logfile",
        "pg_promote",
        "pg_switch_wal",
        "pg_create_restore_point",
        "pg_backup_start",
        "pg_backup_stop",
        "pg_wal_replay_pause",
        "pg_wal_replay_resume",
        "pg_create_physical_replication_slot",
        "pg_create_logical_replication_slot",
        "pg_drop_replication_slot",
        "pg_replication_slot_advance",
        "pg_logical_slot_get_changes",
        "pg_advisory_lock",
        "pg_advisory_lock_shared",
        "pg_advisory_xact_lock",
        "pg_advisory_xact_lock_shared",
        "pg_try_advisory_lock",
        "pg_try_advisory_lock_shared",
        "pg_try_advisory_xact_lock",
        "pg_try_advisory_xact_lock_shared",
        "pg_advisory_unlock",
        "pg_advisory_unlock_all",
        "pg_stat_reset",
        "pg_stat_reset_shared",
        "pg_stat_statements_reset",
        "dblink_exec",
        "dblink_connect",
        "dblink_send_query",
        "checkpoint",
        "force_checkpoint",
        "load_extension",
        "writefile",
        "get_lock",
        "release_lock",
        "sp_executesql",
        "xp_cmdshell",
    ]
)
"""Functions of databases that change or lock something, by their folded names."""

_LOCKING_HINTS = frozenset({"UPDLOCK", "XLOCK", "TABLOCKX", "HOLDLOCK", "TABLOCK", "PAGLOCK"})

_WORD = re.compile(r"\w+")

_MAY_WRITE = (
    _CALLS
    | {hint.lower() for hint in _LOCKING_HINTS}
    | {"insert", "update", "delete", "merge", "replace", "into", "truncate", "copy"}
    | {"create", "drop", "alter", "share", "lock"}
)
"""Text without any of these words only reads; with one, the syntax tree decides."""


def check_only_reads(query: exp.Expr, text: str) -> None:
    """Hold a query against what a query may do.

    Args:
        query: its syntax tree.
        text: the text that it was read from.

    Raises:
        WritingQuery: when a part of it writes or locks.
        NameFromParameter: when a parameter stands where a name has to.
    """
    if not _MAY_WRITE.isdisjoint(_WORD.findall(text.lower())):
        for node in query.walk():
            writing = _writing(node)
            if writing is not None:
                raise WritingQuery(writing, line_of(node))
    if ":" in text or "$" in text:
        for placeholder in query.find_all(exp.Placeholder):
            if isinstance(placeholder.parent, exp.Table | exp.Column):
                what = "table" if isinstance(placeholder.parent, exp.Table) else "column"
                raise NameFromParameter(
                    f"takes the name of a {what} from the parameter {placeholder.this}",
                    line_of(placeholder.parent),
                )


def _writing(node: exp.Expr) -> str | None:
    """In words, how a node of the tree writes or locks; None if it only reads."""
    if isinstance(node, exp.Into):
        return "has SELECT INTO inside, which writes"
    if isinstance(node, _WRITES):
        return f"has {node.key.upper()} inside, which writes"
    if isinstance(node, exp.Lock):
        return f"has FOR {'UPDATE' if node.args.get('update') else 'SHARE'}, which locks rows"
    if isinstance(node, exp.WithTableHint):
        hints = {hint.name.upper() for hint in node.expressions} & _LOCKING_HINTS
        return f"has the hint {min(hints)}, which locks" if hints else None
    if isinstance(node, exp.Func):
        name = node.name if isinstance(node, exp.Anonymous) else node.sql_name()
        if name.lower() in _CALLS:
            return f"calls {name.lower()}, which does more than read"
    return None
