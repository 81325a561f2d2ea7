"""Drafting: from a request to a draft, purely.

``request`` is what comes in, ``draft`` puts together what comes out: ``reasons`` says which parts
change, ``steps`` what is done about it, ``schedules``, ``structures`` and ``values`` the rest.
"""
