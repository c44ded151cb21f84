"""Whether who asks is still there."""

from django.http import HttpRequest

from errant_gust.core.wanted import Cancel


def never_gone() -> bool:
    """For who asks without a connection, such as a test."""
    return False


def gone_of(request: HttpRequest) -> Cancel:
    """What tells that the client of a request has gone (see `asgi.application`)."""
    found: Cancel = getattr(request, "scope", {}).get("gone", never_gone)
    return found
