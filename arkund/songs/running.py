"""Starting the web part and the worker."""

import os
import signal
import socket
import subprocess
import sys
import threading
import time
import webbrowser

from arkund.core.errors import ArkundError

WEB_THREADS = 8


SWITCH_S = 0.0005


def serve(host: str, port: int) -> None:
    """Answer requests until stopped: one process, threads, on waitress."""
    import scipy.signal  # noqa: F401 - elsewhere loaded on first use; no page should wait for it
    import waitress

    from arkund.studio.wsgi import application

    _refuse_taken(host, port)
    # Sound passes between many short kernels that let the interpreter go; after each of them it
    # would wait for so long behind a thread that counts.
    sys.setswitchinterval(SWITCH_S)
    print(f"Arkund listens on http://{host}:{port}/", file=sys.stderr, flush=True)
    waitress.serve(
        application, host=host, port=port, threads=WEB_THREADS, ident=None,
        max_request_body_size=16 << 30, channel_timeout=600,
    )  # fmt: skip


def work() -> None:
    """Do long work until stopped."""
    from arkund.songs.jobs import queue, take_up_left_jobs

    left = take_up_left_jobs()
    print(f"Arkund's worker is ready ({left} jobs taken up).", file=sys.stderr, flush=True)
    consumer = queue.create_consumer(
        workers=1, worker_type="thread", periodic=False, initial_delay=0.05, backoff=1.1,
        max_delay=0.25, check_worker_health=True,
    )  # fmt: skip
    consumer.run()


def run_both(host: str, port: int, path: str, *, open_browser: bool) -> None:
    """Start web and worker as two processes; when either ends, or on Ctrl-C, end both."""
    _refuse_taken(host, port)
    command = [sys.executable, "-m", "arkund"]
    parts = [
        subprocess.Popen([*command, "serve", "--host", host, "--port", str(port)]),
        subprocess.Popen([*command, "worker"]),
    ]
    address = f"http://{host}:{port}{path}"
    print(f"\nOpen {address}\nStop with Ctrl-C.\n", file=sys.stderr, flush=True)
    if open_browser and (os.environ.get("DISPLAY") or sys.platform == "darwin"):
        threading.Thread(target=_open_when_up, args=(host, port, address), daemon=True).start()
    signal.signal(signal.SIGTERM, lambda *_: _stop(parts))
    try:
        while all(part.poll() is None for part in parts):
            time.sleep(0.3)
    except KeyboardInterrupt:
        pass
    finally:
        _stop(parts)


def _stop(parts: list["subprocess.Popen[bytes]"]) -> None:
    for part in parts:
        if part.poll() is None:
            part.terminate()
    for part in parts:
        try:
            part.wait(8)
        except subprocess.TimeoutExpired:
            part.kill()


def _open_when_up(host: str, port: int, address: str) -> None:
    if until_up(host, port):
        webbrowser.open(address)


def until_up(host: str, port: int, patience_s: float = 30.0) -> bool:
    """Wait until something listens on a port; whether it does."""
    until = time.monotonic() + patience_s
    while time.monotonic() < until:
        with socket.socket() as probe:
            if probe.connect_ex((host, port)) == 0:
                return True
        time.sleep(0.1)
    return False


def _refuse_taken(host: str, port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError:
            raise ArkundError(
                f"Port {port} is in use on {host}. Choose another with --port {port + 1}."
            ) from None
