"""The Riverwatch scenario: a project, its generated data, and a day's work with it.

The project's files are in ``riverwatch``; ``data`` makes the numbers; ``day`` writes everything as
a git repository and types the commands.
"""
