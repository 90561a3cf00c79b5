"""Which constants a statement's joins leave open: what the server compares a column with as it plans.

The server takes one constant of each equivalence class (equivclass.c), and which one it does not say. Columns are told
apart here by their names alone, whatever their block: rather too many are held equal than too few.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from sqlglot import exp

from slabrow.core.pruning.agreement import Moments


@dataclass(frozen=True, slots=True)
class Rivalry:
    """contested   columns of which it is unknown with which of several constants they are compared, unless one is known
                while planning
    doubtful    columns of which it is not known at all
    is_settled  whether it is known what is left as the server plans. Where one leaf is, it stands without an Append,
                and nothing is left out as it starts: so a leaf that seems to be pruned at start may still be read.
    """

    contested: frozenset[str]
    doubtful: frozenset[str]
    is_settled: bool


def rivalry(trees: Iterable[exp.Expression], types: Mapping[str, frozenset[str]], moments: Moments) -> Rivalry:
    """trees   the statement, and the queries of the views
    types   of each column name in the tables that they read
    moments tells which constants are known while planning
    """
    found = _Classes()
    for tree in trees:
        found.read(tree)
    contested: set[str] = set()
    doubtful: set[str] = set()
    is_settled = True
    for members, are_joined in found.members():
        constants = {text: node for name in members for text, node in found.constants.get(name, {}).items()}
        named = [name for name in members if name in types or name not in found.aliases]
        kinds = frozenset[str]().union(*(types.get(name, frozenset({""})) for name in named))
        if len(kinds) == 1:
            constants = {text: node for text, node in constants.items() if not moments.is_apart(node, *kinds)}
        are_alike = len(kinds) == 1 and all(moments.is_planned(node, *kinds) for node in constants.values())
        if len(constants) > 1 and not are_alike:
            contested |= members
            kind = next(iter(kinds)) if len(kinds) == 1 else ""
            if any(moments.is_constant(node, kind) and not moments.is_planned(node, kind)
                   for node in constants.values() if kind):  # fmt: skip
                doubtful |= members
            # A day and an instant are compared as the server starts: that they differ, it does not see while planning.
            if len(kinds) > 1 and any(kind.startswith("timestamp with time zone") for kind in kinds):
                doubtful |= members
        # A single clock value is no constant as the server plans, and is taken by all members as it starts.
        is_planned = any(
            len(kinds) != 1 or isinstance(node, exp.Literal) or moments.is_planned(node, *kinds)
            for node in constants.values()
        )
        if len(constants) > 1 or (are_joined and is_planned):
            is_settled = False
    return Rivalry(frozenset(contested), frozenset(doubtful), is_settled)


@dataclass(slots=True)
class _Classes:
    """Columns by name that may be equal. constants: what each is equal to, by its text; aliases: names given anew."""

    constants: dict[str, dict[str, exp.Expression]] = field(default_factory=dict)
    aliases: set[str] = field(default_factory=set)
    _above: dict[str, str] = field(default_factory=dict)
    _joining: set[str] = field(default_factory=set)  # names that an equality of two columns names
    _is_anything_joined: bool = False  # names are given anew, or rows compared: any may be equal to any

    def read(self, tree: exp.Expression) -> None:
        waiting: list[tuple[exp.Expression, bool]] = [(tree, True)]
        while waiting:
            node, is_certain = waiting.pop()
            self._read(node, is_certain)
            # An equality of one arm of OR holds for some rows only, and makes no class.
            below = isinstance(node, exp.Query) or (is_certain and not isinstance(node, exp.Or | exp.Not | exp.Case))
            waiting += [(each, below) for each in node.iter_expressions() if isinstance(each, exp.Expression)]

    def _read(self, node: exp.Expression, is_certain: bool) -> None:
        match node:
            case exp.EQ():
                sides = [node.left, node.right]
                self._is_anything_joined |= any(isinstance(side, exp.Tuple) for side in sides)
                names = _names(sides)
                self._join(names, len(names) > 1)
                if len(names) == 1 and is_certain:
                    self._compare(names[0], sides[0] if _is_column(sides[1]) else sides[1])
            case exp.Not():
                inner = node.this
                while isinstance(inner, exp.Paren):
                    inner = inner.this
                for each in inner.find_all(exp.NEQ):
                    sides = [each.left, each.right]
                    names = _names(sides)
                    if len(names) == 1:
                        self._compare(names[0], sides[0] if _is_column(sides[1]) else sides[1])
            case exp.In() if node.args.get("query") is not None:
                query = node.args["query"].find(exp.Select)
                self._is_anything_joined |= query is None or not _is_column(node.this)
                self._join(_names([node.this, *(query.expressions if query is not None else ())]), True)
            case exp.In() if len(node.expressions) == 1 and _is_column(node.this) and is_certain:
                self._compare(node.this.name.lower(), node.expressions[0])
            case exp.Alias() if _is_column(node.this):
                self._join([node.this.name.lower(), node.alias.lower()], False)
                self.aliases.add(node.alias.lower())
            case exp.TableAlias():
                self._is_anything_joined |= bool(node.args.get("columns"))
            case exp.Join():
                self._is_anything_joined |= node.args.get("method") == "NATURAL"
                self._joining |= {part.name.lower() for part in node.args.get("using") or ()}

    def members(self) -> list[tuple[set[str], bool]]:
        """Every class, and whether some join makes it."""
        every = {*self._above, *self.constants, *self._joining}
        if self._is_anything_joined:
            return [(every, True)] if every else []
        classes: dict[str, set[str]] = {}
        for name in every:
            classes.setdefault(self._class_of(name), set()).add(name)
        return [(members, bool(members & self._joining)) for members in classes.values()]

    def _class_of(self, name: str) -> str:
        while self._above.get(name, name) != name:
            name = self._above[name]
        return name

    def _join(self, names: list[str], is_equality: bool) -> None:
        for name in names[1:]:
            self._above[self._class_of(name)] = self._class_of(names[0])
        if is_equality:
            self._joining.update(names)

    def _compare(self, name: str, value: object) -> None:
        if isinstance(value, exp.Query):  # it is worked out once, and may be what the server takes
            query: exp.Expression = value  # type: ignore[assignment]
            self.constants.setdefault(name, {})["(sub-query)"] = query
        elif isinstance(value, exp.Expression) and value.find(exp.Column, exp.Query) is None:
            self.constants.setdefault(name, {})[value.sql()] = value


def _is_column(node: object) -> bool:
    return isinstance(node, exp.Column) and isinstance(node.this, exp.Identifier)


def _names(parts: Iterable[object]) -> list[str]:
    return [
        part.name.lower() for part in parts if isinstance(part, exp.Column) and isinstance(part.this, exp.Identifier)
    ]
