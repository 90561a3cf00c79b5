"""The rules of this way of pruning, as `family_rules.PruningRules` has them."""

from slabrow.core.pruning.by_constants.constants import bind, is_nothing
from slabrow.core.pruning.by_constants.pruner import ConstantPruner
from slabrow.core.pruning.by_constants.statements import read_statement
from slabrow.core.pruning.contradictions import Ranks, unranked
from slabrow.core.pruning.family_rules import PruningRules
from slabrow.core.pruning.key_conditions import Condition


def _is_contradiction(condition: Condition, not_null: frozenset[str], rank: Ranks = unranked) -> bool:
    """By its own words. Ranges of a key that exclude each other are seen by the pruner; of other columns the server
    sees only some, depending on how their constants are written, and those are left.
    """
    return is_nothing(condition)


RULES = PruningRules(
    read_statement=read_statement,
    bind=bind,
    pruner=ConstantPruner,
    is_contradiction=_is_contradiction,
    shares_shapes=False,
    ends_joins=True,
)
