"""The one place where names and values become MariaDB's text. Nothing else builds an identifier or a literal."""

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range
from slabrow.core.values.key_values import Edge, Key, OpaqueKey, Value, spell
from slabrow.core.values.names import Name


def identifier(name: str) -> str:
    """A name as SQL, always in backquotes: the list of reserved words grows with each version.

    >>> identifier("reading")
    '`reading`'
    """
    if "\0" in name:
        raise ValueError("a name cannot hold a NUL character")
    return "`" + name.replace("`", "``") + "`"


def table(name: Name) -> str:
    """A table with its database, where that is known."""
    return identifier(name.table) if name.schema is None else f"{identifier(name.schema)}.{identifier(name.table)}"


def columns(names: tuple[str, ...]) -> str:
    """Column names separated by commas."""
    return ", ".join(map(identifier, names))


_ESCAPED = str.maketrans({"\\": "\\\\", "'": "''", "\0": "\\0", "\n": "\\n", "\r": "\\r", "\x1a": "\\Z"})


def literal(text: str) -> str:
    """A text as a string constant, for sessions without NO_BACKSLASH_ESCAPES: ours are pinned so."""
    return "'" + text.translate(_ESCAPED) + "'"


def value(one: Value | None) -> str:
    """A key value as a constant. An instant is written in UTC without its offset: our sessions are in UTC."""
    match one:
        case None:
            return "NULL"
        case Edge() if one in (Edge.MINVALUE, Edge.MAXVALUE):
            return one.name
        case OpaqueKey(parts=parts):
            return "(" + ", ".join(map(value, parts)) + ")"
        case bool():
            return "1" if one else "0"
        case int():
            return str(one)
        case _:
            text = spell(one)
            return text if text.startswith("0x") else literal(text.removesuffix("+00:00"))


def condition(held: Bounds, key: tuple[str, ...]) -> str:
    """The condition on the leading key column that the rows of such a partition satisfy.

    Raises ValueError for hash, for the catch-all, and for a range that a later key column bounds too.
    """
    leading = identifier(key[0])
    match held:
        case Range():
            tests = []
            for end, sign in ((held.from_, ">="), (held.to, "<")):
                if end is None or end[0] in (Edge.MINVALUE, Edge.MAXVALUE):
                    continue
                if any(each is not Edge.MINVALUE for each in end[1:]):
                    raise ValueError("a later key column bounds this range too")
                tests.append(f"{leading} {sign} {value(end[0])}")
            whole = " AND ".join(tests) or "TRUE"
            return f"({whole} OR {leading} IS NULL)" if held.from_ is None else whole
        case Listed(values=values):
            listed = [value(each) for each in values if each is not None]
            tests = [f"{leading} IN ({', '.join(listed)})"] if listed else []
            tests += [f"{leading} IS NULL"] if None in values else []
            return "(" + " OR ".join(tests) + ")"
        case Hashed() | CatchAll():
            raise ValueError("only the server knows which rows such a partition holds")


def spelled_bounds(held: Bounds) -> str:
    """Bounds as they stand in a definition."""
    match held:
        case Range(to=to):
            return f"VALUES LESS THAN {_end(to)}"
        case Listed(values=values):
            return f"VALUES IN ({', '.join(map(value, values))})"
        case Hashed(modulus=modulus, remainder=remainder):
            return f"part {remainder} of {modulus}"
        case CatchAll():
            return "all others"


def _end(end: Key | None) -> str:
    return "(MAXVALUE)" if end is None else "(" + ", ".join(map(value, end)) + ")"
