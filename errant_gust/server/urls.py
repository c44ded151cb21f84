"""The API under /api, everything else is the front end."""

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.urls import path, re_path

from errant_gust.server.api import api


def front_end(request: HttpRequest) -> HttpResponseBase:
    """The single page; its router reads the path."""
    index = settings.WEB / "index.html"
    if not index.is_file():
        return HttpResponse("The interface has not been built; run ./gust demo", status=503, content_type="text/plain")
    response = FileResponse(index.open("rb"), content_type="text/html")
    response["Cache-Control"] = "no-cache"
    return response


urlpatterns = [path("api/", api.urls), re_path(r"^(?!api/|assets/).*$", front_end)]
