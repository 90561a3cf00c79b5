"""Text from outside on one line: names, comments and statements can hold anything that their writer liked.

A line break in a name would end a comment of a script, a log line or a line of a unit file, and what follows it would
be read as something of its own. Control characters steer terminals. Every text that leaves the program as a part of a
line passes through here.
"""

import re

# Control characters (C0, DEL, C1), the separators of lines and paragraphs, and the marks that turn the direction of
# writing (Unicode, Bidirectional Algorithm, 2.0), with which a text can show another order than it has.
_CONTROLS = "\x00-\x08\x0b-\x1f\x7f-\x9f\u2028\u2029\u200e\u200f\u202a-\u202e\u2066-\u2069\ud800-\udfff"
_CONTROL = re.compile(f"[{_CONTROLS}]")


def one_line(text: str) -> str:
    """White space as single blanks, and control characters as escapes that can be seen.

    >>> one_line("t\\n\\\\! touch x\\x1b[2J")
    't \\\\! touch x\\\\x1b[2J'
    """
    return without_controls(" ".join(text.split()))


def without_controls(text: str) -> str:
    """The same for a text of several lines, which keeps its line breaks and tabs."""
    return text if text.isprintable() else _CONTROL.sub(_escape, text)


def _escape(found: re.Match[str]) -> str:
    code = ord(found.group())
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
