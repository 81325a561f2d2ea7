"""Bundles: the manifest and digest of a project version, and what differs between two.

Here belongs whatever is said of a version as it was packed, in no environment yet.
"""
