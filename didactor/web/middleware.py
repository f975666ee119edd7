"""What holds for every request: text without NUL, and pages of signed-in people that nobody keeps."""

from __future__ import annotations

from collections.abc import Callable

from django.http import Http404, HttpRequest, HttpResponseBase, QueryDict

Answer = Callable[[HttpRequest], HttpResponseBase]
NUL = "\x00"


def plain_text(get_response: Answer) -> Answer:
    """No text with NUL reaches a view: the database cannot hold it, and nobody types it."""

    def middleware(request: HttpRequest) -> HttpResponseBase:
        if NUL in request.path_info:
            raise Http404
        request.GET = _without_nul(request.GET)  # type: ignore[assignment]
        if request.method == "POST":
            request.POST = _without_nul(request.POST)  # type: ignore[assignment]
        return get_response(request)

    return middleware


def _without_nul(data: QueryDict) -> QueryDict:
    if not any(NUL in text for name, texts in data.lists() for text in (name, *texts)):
        return data
    plain = QueryDict(mutable=True)
    for name, texts in data.lists():
        plain.setlist(name.replace(NUL, ""), [text.replace(NUL, "") for text in texts])
    plain._mutable = False
    return plain


def not_stored(get_response: Answer) -> Answer:
    """Pages are kept by no cache on the way, nor by the browser of a computer that others use; what says otherwise itself, may."""

    def middleware(request: HttpRequest) -> HttpResponseBase:
        response = get_response(request)
        if "Cache-Control" not in response and not request.path.startswith("/static/"):
            response["Cache-Control"] = "private, no-store"
        return response

    return middleware
