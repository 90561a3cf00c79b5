"""Tells a web address what happened: HTTP POST of a JSON document."""

import urllib.error
import urllib.request
from urllib.parse import urlsplit

from slabrow.core.errors import UsageError

_TIMEOUT_S = 10


def check_address(url: str) -> str:
    """Raises UsageError for what is no http or https address."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.netloc:
        raise UsageError(f"{url!r} is no web address", fix="write it as https://host/path")
    return url


def post(url: str, document: str) -> str | None:
    """None when it was taken, else why not, without the address: it may hold a secret."""
    request = urllib.request.Request(
        url, document.encode(), {"Content-Type": "application/json", "User-Agent": "slabrow"}, method="POST"
    )
    try:
        with urllib.request.urlopen(request, timeout=_TIMEOUT_S):
            return None
    except urllib.error.HTTPError as error:
        return f"{urlsplit(url).hostname} answered {error.code}"
    except (urllib.error.URLError, OSError, ValueError) as error:
        return f"{urlsplit(url).hostname} did not answer: {getattr(error, 'reason', error)}"
