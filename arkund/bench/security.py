"""What a browser must not be talked into, and headers that keep a page to itself."""

from collections.abc import Callable
from ipaddress import ip_address

from django.conf import settings
from django.core.exceptions import DisallowedHost
from django.http import HttpRequest, HttpResponse

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self'; "
    "connect-src 'self'; media-src 'self'; worker-src 'self'; form-action 'self'; "
    "base-uri 'none'; frame-ancestors 'none'"
)


class PolicyMiddleware:
    """Outermost, so that it holds for files as well as for pages.

    The host must be one that the server goes by, and loopback names are for this machine alone.
    Another site's page may lead to a page of the bench by a plain link, and to nothing else:
    browsers say where a request comes from in ``Sec-Fetch-Site``, reads have work behind them as
    writes have, and the CSRF token is checked besides.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = _refusal(request) or self._get_response(request)
        response["Content-Security-Policy"] = POLICY
        response["X-Content-Type-Options"] = "nosniff"
        response["Cross-Origin-Opener-Policy"] = "same-origin"
        response["Cross-Origin-Resource-Policy"] = "same-origin"
        return response


def _refusal(request: HttpRequest) -> HttpResponse | None:
    try:
        host = request.get_host()
    except DisallowedHost:
        return _refused(
            "Refused: Arkund does not go by that name here. ARKUND_HOSTS adds names.", 400
        )
    # get_host keeps the port; an IPv6 address keeps its brackets.
    name = host if host.endswith("]") else host.rpartition(":")[0] or host
    name = name.lower().rstrip(".")  # a name may end with the root's dot
    if name in settings.LOOPBACK_HOSTS and not _is_here(request.META.get("REMOTE_ADDR", "")):
        return _refused("Refused: that name is for this machine alone.", 400)
    site = request.headers.get("Sec-Fetch-Site", "same-origin")
    if site not in ("same-origin", "none") and not _is_plain_link(request):
        return _refused("Refused: the request came from another site.", 403)
    return None


def _is_here(address: str) -> bool:
    try:
        return ip_address(address).is_loopback
    except ValueError:
        return False


def _is_plain_link(request: HttpRequest) -> bool:
    """A page opened by a link, with nothing tried on it."""
    return (
        request.method in ("GET", "HEAD")
        and request.headers.get("Sec-Fetch-Mode") == "navigate"
        and request.headers.get("Sec-Fetch-Dest") == "document"
        and "patch" not in request.GET
    )


def _refused(text: str, status: int) -> HttpResponse:
    return HttpResponse(text, status=status, content_type="text/plain; charset=utf-8")
