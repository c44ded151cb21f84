"""What keeps other web pages away from a server on loopback, and scripts out of ours."""

from collections.abc import Callable
from urllib.parse import urlsplit

from django.http import HttpRequest, HttpResponse, JsonResponse

from errant_gust.core.blocks import foreground
from errant_gust.core.wanted import while_wanted
from errant_gust.server.clients import gone_of
from errant_gust.server.compiling import refusal
from errant_gust.server.faults import told

HEADER = "X-Errant-Gust"
ELSEWHERE = ("cross-site", "same-site")
"""What a browser says of a request that a page of another origin makes it send."""
CSP = (
    "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; font-src 'self' data:; "
    "worker-src 'self' blob:; connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'none'; "
    "frame-ancestors 'none'"
)


HEADERS = {
    "Content-Security-Policy": CSP,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}
"""What every answer carries."""


def host_of(origin: str) -> str:
    """Host and port of an Origin; empty for what is none."""
    try:
        return urlsplit(origin).netloc
    except ValueError:
        return ""


class SafetyMiddleware:
    """Refuses changes that do not come from our own page (Origin, and a header no form can send); sets headers."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """What came before the API saw the request: an upload that finds no room."""
        answer = told(error)
        return None if answer is None else JsonResponse(answer[1], status=answer[0])

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self._refused(request) or self._answer(request)
        for name, value in HEADERS.items():
            response[name] = value
        return response

    def _refused(self, request: HttpRequest) -> HttpResponse | None:
        # what a page of another site makes a browser ask for says so; a link that somebody follows is no such thing
        site, aim = request.headers.get("Sec-Fetch-Site", ""), request.headers.get("Sec-Fetch-Mode", "")
        if site in ELSEWHERE and (aim != "navigate" or request.path.startswith("/api/")):
            return JsonResponse({"what": "this request comes from another site"}, status=403)
        if request.method in ("GET", "HEAD", "OPTIONS"):
            return None
        origin = request.headers.get("Origin")
        if origin is not None and host_of(origin) != request.get_host():
            return JsonResponse({"what": "this request comes from another site"}, status=403)
        if HEADER not in request.headers:
            return JsonResponse({"what": f"the header {HEADER} is missing"}, status=403)
        return None

    def _answer(self, request: HttpRequest) -> HttpResponse:
        waits = refusal(request.method or "", request.path)
        if waits is not None:
            answer = JsonResponse(waits, status=503, headers={"Retry-After": "2"})
            answer._has_been_logged = True  # type: ignore[attr-defined]  # it is no fault
            return answer
        if not request.path.startswith("/api/look/"):
            with while_wanted(gone_of(request)):  # a parser of what is uploaded, say: looks ask for themselves
                return self.get_response(request)
        with foreground():
            return self.get_response(request)
