"""SQL read as a syntax tree: text in, names, columns, types and rendered text out.

The parser, dialects and generator are sqlglot's. What a query's columns come from is worked out
here, by our own resolver.
"""
