"""Promotions: the draft of what is going to be done, its steps, and the states of both.

Here belongs whatever is decided from a bundle and the composition of an environment.
"""
