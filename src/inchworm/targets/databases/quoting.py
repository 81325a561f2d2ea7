"""Names in the double quotes of standard SQL, which all our databases read."""


def quoted_one(name: str) -> str:
    """One name in double quotes, whatever letters it has."""
    return '"' + name.replace('"', '""') + '"'


def quoted(name: str) -> str:
    """``schema.table`` in double quotes, as standard SQL and all our databases read it."""
    return ".".join(map(quoted_one, name.split(".", 1)))


def folded(schema: str, name: str) -> str:
    """The full name of an object in a database where the case of names does not count."""
    return f"{schema}.{name.lower()}"
