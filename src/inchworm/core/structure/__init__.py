"""What a database holds: tables, columns, types; and what SQL scripts make of them.

No database is reached from here: live structures come in as values read by a target.
"""
