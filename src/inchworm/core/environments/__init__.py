"""Environments: as their files declare them, with the names that things have there.

Here belongs whatever follows from the declaration; what is live is a composition.
"""
