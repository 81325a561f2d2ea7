"""Machine-readable output: values of ``core`` and ``engine`` as the documents that others build on.

Pure: everything comes in as an argument, and nothing is printed. Keys that are there stay; new ones
may come.
"""
