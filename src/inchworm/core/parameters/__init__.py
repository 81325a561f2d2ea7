"""Parameters: the matrix, their values and the spelling of literals.

Here belongs whatever says what a value is in an environment; who uses it is a fact of a part.
"""
