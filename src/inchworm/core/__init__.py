"""The heart: values in, values out.

Here belong parts, parameters, SQL analysis, lineage, structure, findings, bundles' manifests,
compositions and promotion drafts. Nothing in this package opens a file, reads a clock, calls a
network or knows a database driver; whatever it needs from there comes in as an argument.
"""
