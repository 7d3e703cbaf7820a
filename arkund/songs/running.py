"""Starting the web part and the worker."""

import errno
import os
import secrets
import signal
import socket
import subprocess
import sys
import threading
import time
import webbrowser
from contextlib import suppress

from arkund.core.errors import ArkundError

SWITCH_S = 0.0005
LEASH = "ARKUND_LEASH"
"""Names a pipe's end in the environment of a started part: when it closes, who started it has
died, however it died."""

LOOPBACK = ("localhost", "127.0.0.1", "::1")


def serve(host: str, port: int) -> None:
    """Answer requests until stopped: one process, threads, on waitress."""
    import numba  # noqa: F401 - elsewhere loaded on first use, as the next one; no page should wait
    import scipy.signal  # noqa: F401

    from arkund.songs import locks, memory
    from arkund.songs.scheduling import SCHEDULE
    from arkund.studio.listening import listen
    from arkund.studio.turnstile import THREADS, Turnstile
    from arkund.studio.wsgi import application, is_known

    _refuse_taken(host, port)
    locks.take_seat("serve", f"at http://{_shown(host)}:{port}/")
    _follow_who_started_it()
    if host not in LOOPBACK:
        _guard(host)
    # Sound passes between many short kernels that let the interpreter go; after each of them it
    # would wait for so long behind a thread that counts.
    sys.setswitchinterval(SWITCH_S)
    memory.hold()
    print(f"Arkund listens on http://{_shown(host)}:{port}/", file=sys.stderr, flush=True)
    turnstile = Turnstile(application, SCHEDULE)
    listen(turnstile, host, port, THREADS, is_known)


def _guard(host: str) -> None:
    """Beyond loopback every visitor needs the passphrase, and says by which name it was called."""
    from django.conf import settings

    if not settings.PASSPHRASE:
        settings.PASSPHRASE = "-".join(secrets.token_hex(2) for _ in range(4))
    names = {socket.gethostname(), socket.getfqdn(), host} - {"0.0.0.0", "::"}
    with suppress(OSError):
        names |= {str(info[4][0]) for info in socket.getaddrinfo(socket.gethostname(), None)}
    with suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        probe.connect(("192.0.2.1", 9))  # sends nothing; the system says from where it would
        names.add(probe.getsockname()[0])
    names -= set(LOOPBACK)
    settings.ALLOWED_HOSTS += [f"[{n}]" if ":" in n else n for n in sorted(names)]
    print(
        f"Arkund can be reached from other machines, as {', '.join(sorted(names)) or 'nothing'}. "
        f"Whoever comes needs the passphrase: {settings.PASSPHRASE}\n"
        "Set ARKUND_PASSPHRASE to choose it, ARKUND_HOSTS to add names. What is sent is not "
        "encrypted: use it on a network that you trust.",
        file=sys.stderr,
        flush=True,
    )


def _shown(host: str) -> str:
    return f"[{host}]" if ":" in host else host


def work() -> None:
    """Do long work until stopped."""
    from django.conf import settings

    from arkund.songs import locks
    from arkund.songs.jobs import keep_watch, queue

    if not settings.REDIS_URL:
        locks.take_seat("worker", "with the queue on SQLite")
    locks.own_name()
    _follow_who_started_it()
    threading.Thread(target=keep_watch, args=(threading.Event(),), daemon=True).start()
    print("Arkund's worker is ready.", file=sys.stderr, flush=True)
    consumer = queue.create_consumer(
        workers=1,
        worker_type="thread",
        periodic=False,
        initial_delay=0.05,
        backoff=1.1,
        max_delay=0.25,
        check_worker_health=True,
    )
    consumer.run()


def _follow_who_started_it() -> None:
    """End when the process that started this one does."""
    end = os.environ.pop(LEASH, "")
    if not end.isdigit():
        return

    def follow() -> None:
        os.read(int(end), 1)
        os.kill(os.getpid(), signal.SIGTERM)
        time.sleep(8)
        os._exit(1)

    threading.Thread(target=follow, name="leash", daemon=True).start()


def refuse_running(host: str, port: int) -> None:
    """Raises `ArkundError` where Arkund runs on the data folder already, or the port is taken."""
    from arkund.songs import locks

    for role in ("serve", "worker"):
        locks.refuse_taken_seat(role)
    _refuse_taken(host, port)


def run_both(host: str, port: int, path: str, *, open_browser: bool) -> None:
    """Start web and worker as two processes; when either ends, or on Ctrl-C, end both. They end
    too when this process is killed."""
    from django.conf import settings

    refuse_running(host, port)
    command = [sys.executable, "-m", "arkund"]
    held, kept = os.pipe()
    env = os.environ | {LEASH: str(held), "ARKUND_PASSPHRASE": settings.PASSPHRASE}
    parts = [
        subprocess.Popen([*command, *part], env=env, pass_fds=(held,))
        for part in (["serve", "--host", host, "--port", str(port)], ["worker"])
    ]
    os.close(held)
    address = f"http://{_shown(host)}:{port}{path}"
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
        os.close(kept)


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
    if not 0 < port < 65536:
        raise ArkundError("A port is a number from 1 to 65535, such as 8000.")
    try:
        family = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0][0]
    except OSError:
        raise ArkundError(f"There is no address “{host}” on this machine to listen on.") from None
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            if error.errno == errno.EADDRNOTAVAIL:
                raise ArkundError(
                    f"There is no address “{host}” on this machine to listen on."
                ) from None
            raise ArkundError(
                f"Port {port} is in use on {host}. Choose another with --port {port + 1}."
            ) from None
