"""Runs: what executes in an environment, in which order, and how it went.

Here belongs whatever can be told from parts and records alone; what executes is in the engine.
"""
