"""Why a condition cannot be used to leave partitions out: one code and one sentence each."""

from enum import StrEnum


class Reason(StrEnum):
    """Why a condition does not leave out partitions: the code that scripts see."""

    NO_CONDITION = "no_condition"
    FUNCTION_ON_KEY = "function_on_key"
    ARITHMETIC_ON_KEY = "arithmetic_on_key"
    VOLATILE_VALUE = "volatile_value"
    OR_WITHOUT_KEY = "or_without_key"
    PATTERN_MATCH = "pattern_match"
    HASH_NOT_FULL = "hash_not_full"
    LEADING_COLUMN_MISSING = "leading_column_missing"
    NEGATION = "negation"
    TYPE_MISMATCH = "type_mismatch"
    KNOWN_ONLY_RUNNING = "known_only_running"
    NOT_UNDERSTOOD = "not_understood"
    NOT_SENT = "not_sent"


SENTENCES = {
    Reason.NO_CONDITION: "no condition names the partition key",
    Reason.FUNCTION_ON_KEY: "a function or a cast stands around the key, and the bounds are of the bare key",
    Reason.ARITHMETIC_ON_KEY: "the key is part of a calculation, and the bounds are of the bare key",
    Reason.VOLATILE_VALUE: "the value may change from row to row, so no partition can be left out for it",
    Reason.OR_WITHOUT_KEY: "one arm of an OR says nothing about the key, so its rows may lie anywhere",
    Reason.PATTERN_MATCH: "a pattern is not compared with the bounds, even without a wildcard",
    Reason.HASH_NOT_FULL: "a hash partition is found only when every key column is given by =",
    Reason.LEADING_COLUMN_MISSING: "the leading column of the key is not given, so later ones cannot be used",
    Reason.NEGATION: "what a negation excludes does not fill a partition of this kind",
    Reason.TYPE_MISMATCH: "the value is of a type that the server does not compare with the bounds",
    Reason.KNOWN_ONLY_RUNNING: "the value is known only while the query runs",
    Reason.NOT_UNDERSTOOD: "Slabrow does not understand this condition, and keeps every partition for it",
    Reason.NOT_SENT: "the condition is not sent to the other server, so the leaf is read whole and sent over",
}
