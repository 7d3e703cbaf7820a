"""The listening socket: strangers send little, wait shortly and shut nobody out."""

import contextlib
import socket
import threading
import time
from collections.abc import Iterator, Mapping

import pytest

from arkund.studio import listening

HELD: list[threading.Event] = []


def application(environ, start):  # type: ignore[no-untyped-def]
    if environ["PATH_INFO"] == "/wait":
        until = time.monotonic() + 10
        while not environ["waitress.client_disconnected"]() and time.monotonic() < until:
            time.sleep(0.02)
        HELD[0].set()
    start("200 OK", [("Content-Type", "text/plain")])
    return [str(len(environ["wsgi.input"].read())).encode()]


def is_known(headers: Mapping[str, str]) -> bool:
    return headers.get("COOKIE") == "known"


@pytest.fixture(scope="module")
def port() -> Iterator[int]:
    patch = pytest.MonkeyPatch()
    patch.setattr(listening, "STRANGER_S", 0.8)
    patch.setattr(listening, "LOOK_EVERY_S", 0.1)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        free = probe.getsockname()[1]
    threading.Thread(
        target=listening.listen, args=(application, "127.0.0.1", free, 4, is_known), daemon=True
    ).start()
    for _ in range(100):
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", free)) == 0:
                break
        time.sleep(0.02)
    yield free
    patch.undo()


def _open(port: int, content: bytes = b"") -> socket.socket:
    made = socket.create_connection(("127.0.0.1", port), timeout=5)
    made.sendall(content)
    return made


def _post(size: int, *more: str) -> bytes:
    lines = ["POST / HTTP/1.1", "Host: localhost", f"Content-Length: {size}", *more, "", ""]
    return "\r\n".join(lines).encode()


def _answer(connection: socket.socket) -> bytes:
    """What comes until nothing more does for a moment."""
    parts = [connection.recv(4096)]
    connection.settimeout(0.3)
    with connection, contextlib.suppress(TimeoutError):
        while parts[-1]:
            parts.append(connection.recv(4096))
    return b"".join(parts)


def test_a_stranger_s_body_is_small(port: int) -> None:
    assert b"413" in _answer(_open(port, _post(15 << 30)))
    assert b"413" in _answer(_open(port, _post(listening.STRANGER_BYTES)))
    small = _answer(_open(port, _post(50) + 50 * b"x"))
    assert b"200 OK" in small
    assert small.endswith(b"50")


def test_a_stranger_s_chunks_are_counted(port: int) -> None:
    head = b"POST / HTTP/1.1\r\nHost: localhost\r\nTransfer-Encoding: chunked\r\n\r\n"
    chunk = b"1000\r\n" + 0x1000 * b"x" + b"\r\n"
    assert b"413" in _answer(_open(port, head + 4 * chunk))


def test_who_is_known_may_send_much_and_slowly(port: int) -> None:
    connection = _open(port, _post(200_000, "Cookie: known"))
    for _ in range(4):
        connection.sendall(50_000 * b"x")
        time.sleep(0.3)
    answer = _answer(connection)
    assert b"200 OK" in answer
    assert answer.endswith(b"200000")


@pytest.mark.parametrize(
    "begun", [b"", b"GET / HTTP/1.1\r\nHost:", _post(500) + b"x"], ids=["none", "head", "body"]
)
def test_a_stranger_who_dawdles_is_dropped(port: int, begun: bytes) -> None:
    connection, began = _open(port, begun), time.monotonic()
    assert connection.recv(10) == b""
    assert 0.5 < time.monotonic() - began < 3


def test_dripping_bytes_wins_no_time(port: int) -> None:
    connection, began = _open(port, b"GET / HTTP/1.1\r\nX: "), time.monotonic()
    with contextlib.suppress(ConnectionError):
        while time.monotonic() - began < 5:
            connection.sendall(b"x")
            time.sleep(0.1)
    assert time.monotonic() - began < 3


def test_half_requests_by_the_hundred_shut_nobody_out(port: int) -> None:
    known = _open(port, b"GET / HTTP/1.1\r\nHost: a\r\nCookie: known\r\n\r\n")
    assert b"200 OK" in known.recv(4096)
    strangers = [_open(port, b"GET / HTTP/1.1\r\nX: ") for _ in range(listening.CONNECTIONS + 60)]
    began = time.monotonic()
    assert b"200 OK" in _answer(_open(port, b"GET / HTTP/1.1\r\nHost: a\r\n\r\n"))
    assert time.monotonic() - began < 2
    known.sendall(b"GET / HTTP/1.1\r\nHost: a\r\nCookie: known\r\n\r\n")
    assert b"200 OK" in _answer(known)
    for stranger in strangers:
        stranger.close()


def test_work_learns_that_who_asked_has_gone(port: int) -> None:
    HELD[:] = [threading.Event()]
    connection, began = _open(port, b"GET /wait HTTP/1.1\r\nHost: a\r\n\r\n"), time.monotonic()
    time.sleep(0.2)
    connection.close()
    assert HELD[0].wait(3)
    assert time.monotonic() - began < 3
