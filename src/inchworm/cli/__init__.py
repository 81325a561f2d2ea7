"""Commands and terminal rendering: parse, call, print. No rule lives here.

Each command is a module in ``commands``, imported only when it runs, so that ``inchworm --version``
loads nothing but click.
"""
