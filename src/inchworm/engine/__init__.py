"""Carrying things out: drafting against live environments, promoting, reading what is where.

The engine joins ``core`` (which decides) with ``targets`` and ``store`` (which do and keep).
Nothing here prints: whoever calls passes a reporter.
"""
