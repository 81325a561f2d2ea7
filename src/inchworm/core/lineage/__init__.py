"""Lineage: the facts of each part, and the graph that they make.

Here belongs whatever is known of parts without running them; rules about it are checks.
"""
