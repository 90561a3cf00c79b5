"""Small questions about a parsed statement: what a name means, what AND joins, what a query gives out."""

from collections.abc import Sequence
from typing import Any

from sqlglot import exp

Source = tuple[str, tuple[str, ...] | None]  # an alias, and the names of its columns


def folded(part: exp.Identifier) -> str:
    """The name that an identifier means: in lower case unless it is quoted."""
    return part.name if part.args.get("quoted") else part.name.lower()


def conjuncts(node: exp.Expression) -> list[exp.Expression]:
    """The conditions that AND joins, however deep, in their order."""
    found: list[exp.Expression] = []
    waiting: list[Any] = [node]
    while waiting:
        each = waiting.pop()
        while isinstance(each, exp.Paren):
            each = each.this
        if isinstance(each, exp.And):
            waiting += [each.args["expression"], each.this]
        else:
            found.append(each)
    return found


def column_of(part: exp.Identifier, alias: str) -> exp.Column:
    """A column by its name and the alias of its table."""
    return exp.Column(this=part.copy(), table=exp.to_identifier(alias, quoted=True))


def aliases_in(node: exp.Expression) -> set[str]:
    """The aliases that qualify columns; an empty one for a column without."""
    return {folded(column.args["table"]) if column.args.get("table") else "" for column in node.find_all(exp.Column)}


def renamed_columns(names: tuple[str, ...] | None, renamed: tuple[str, ...]) -> tuple[str, ...] | None:
    """Names with the first ones replaced, as `AS x (a, b)` does."""
    if names is None:
        return renamed or None
    return (*renamed, *names[len(renamed) :])


def outputs(node: exp.Select, sources: Sequence[Source]) -> list[tuple[str, exp.Expression]] | None:
    """The output columns with what gives them; None when `*` of something unknown is among them."""
    found: list[tuple[str, exp.Expression]] = []
    for each in node.expressions:
        inner = each.this if isinstance(each, exp.Alias) else each
        if isinstance(inner, exp.Star) or (isinstance(inner, exp.Column) and isinstance(inner.this, exp.Star)):
            wanted = folded(inner.args["table"]) if isinstance(inner, exp.Column) and inner.args.get("table") else None
            for alias, columns in sources:
                if wanted is not None and alias != wanted:
                    continue
                if columns is None:
                    return None
                found += [(name, column_of(exp.to_identifier(name, quoted=True), alias)) for name in columns]
            continue
        named = each.args.get("alias") if isinstance(each, exp.Alias) else getattr(inner, "this", None)
        found.append((folded(named) if isinstance(named, exp.Identifier) else each.alias_or_name, inner))
    return found
