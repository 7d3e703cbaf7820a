"""Headers that keep a page to itself."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self'; "
    "connect-src 'self'; media-src 'self'; worker-src 'self'; form-action 'self'; "
    "base-uri 'none'; frame-ancestors 'none'"
)


class PolicyMiddleware:
    """A strict Content-Security-Policy on every answer, and refusal of posts that another site's
    page sends (browsers say so in ``Sec-Fetch-Site``; the CSRF token is checked besides)."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        site = request.headers.get("Sec-Fetch-Site", "same-origin")
        if request.method not in ("GET", "HEAD") and site not in ("same-origin", "none"):
            response: HttpResponse = HttpResponse(
                "Refused: the request came from another site.",
                status=403,
                content_type="text/plain",
            )
        else:
            response = self._get_response(request)
        response["Content-Security-Policy"] = POLICY
        response["Cross-Origin-Opener-Policy"] = "same-origin"
        response["Cross-Origin-Resource-Policy"] = "same-origin"
        return response
