"""Tells a web address what happened: HTTP POST of a JSON document."""

import urllib.error
import urllib.request
from http.client import HTTPException
from urllib.parse import urlsplit

from slabrow.core.values.errors import UsageError

_TIMEOUT_S = 10


def check_address(url: str) -> str:
    """Raises UsageError for an address that is neither http nor https, without showing it: it may hold a secret."""
    try:
        parts = urlsplit(url)
        is_address = parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port != 0
        url.encode("ascii")
    except ValueError:
        is_address = False
    if not is_address or not url.isprintable() or " " in url:
        raise UsageError(
            "--webhook is no web address", fix="write it as https://host/path, blanks and other letters %-encoded"
        )
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
    except urllib.error.URLError as error:
        return f"{urlsplit(url).hostname} did not answer: {error.reason}"
    except OSError as error:
        return f"{urlsplit(url).hostname} did not answer: {error.strerror or type(error).__name__}"
    except (ValueError, HTTPException) as error:  # their words may quote the address
        return f"{urlsplit(url).hostname} did not answer in HTTP: {type(error).__name__}"
