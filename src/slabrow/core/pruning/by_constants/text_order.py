"""The order of texts in MariaDB's collations, for those whose weights are known here; for others a server is asked."""

from functools import lru_cache

from slabrow.core.hashing.collation_weights import BEYOND, general_ci, swedish_ci
from slabrow.core.sql.answers import Answers

_BLANK = 0x20
_LONGEST = 400  # characters that are compared
Place = tuple[int, ...] | int


def place_of(text: str, type_name: str, collation: str, answers: Answers | None) -> Place | None:
    """Where a text stands in its collation: equal texts have equal places. None where it is not known."""
    found = _weights(text, collation)
    if found is not None:
        return found
    return None if answers is None else answers.rank((type_name, collation), text)


@lru_cache(maxsize=8_192)
def _weights(text: str, collation: str) -> tuple[int, ...] | None:
    if len(text) > _LONGEST:
        return None
    match collation:
        case "utf8mb4_general_ci" | "utf8mb3_general_ci":
            weights = general_ci()
            found = [BEYOND if ord(each) > 0xFFFF else weights.get(ord(each), ord(each)) for each in text]
        case "utf8mb4_bin" | "utf8mb3_bin" | "latin1_bin":
            found = [*text.encode("utf-8", "surrogatepass")]
        case "latin1_swedish_ci":
            try:
                found = [swedish_ci()[byte] for byte in text.encode("cp1252")]
            except UnicodeEncodeError:
                return None
        case _:
            return None
    # Blanks at the end do not count: a shorter text is compared as if blanks followed.
    return (*found, *([_BLANK] * (4 * _LONGEST - len(found))))


def begins_with(place: Place, prefix: str, collation: str) -> bool | None:
    """Whether a text with this place is within what LIKE 'prefix%' can match, told by weights. None: not known."""
    wanted = _weights(prefix, collation)
    if wanted is None or isinstance(place, int):
        return None
    length = len(prefix.encode("utf-8")) if collation.endswith("_bin") else len(prefix)
    return place[:length] == wanted[:length]


def prefix_weights(prefix: str, collation: str) -> tuple[int, ...] | None:
    """The weights of a prefix alone, without blanks behind it."""
    wanted = _weights(prefix, collation)
    if wanted is None:
        return None
    return wanted[: len(prefix.encode("utf-8")) if collation.endswith("_bin") else len(prefix)]
