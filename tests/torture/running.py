"""A server and workers on a data folder of their own, to be asked, stopped and killed."""

import contextlib
import http.client
import json
import os
import re
import signal
import socket
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from arkund.songs.running import until_up

ROOT = Path(__file__).parents[2]
MAKE_SONGS = """
import sys
from pathlib import Path
import django
django.setup()
from django.core.management import call_command
call_command("migrate", verbosity=0)
from tests.making import small_song
for n, name in enumerate(sys.argv[2:]):
    print(small_song(Path(sys.argv[1]) / str(n), name, takes=3).slug, flush=True)
"""


@dataclass(frozen=True)
class Answer:
    """What the server said, and how long it took."""

    status: int
    body: bytes
    seconds: float
    cookies: str = ""

    @property
    def json(self) -> Any:
        return json.loads(self.body)


class Bench:
    """One data folder with what runs on it."""

    def __init__(self, data: Path, **env: str) -> None:
        self.data, self.log = data, data.parent / f"{data.name}.log"
        self.env = os.environ | {"ARKUND_DATA": str(data)} | env
        self.parts: dict[str, subprocess.Popen[bytes]] = {}
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = int(probe.getsockname()[1])
        self._cookie = ""

    def make_songs(self, *names: str) -> list[str]:
        """Songs of three short takes."""
        env = self.env | {"DJANGO_SETTINGS_MODULE": "arkund.studio.settings"}
        made = subprocess.run(
            [sys.executable, "-c", MAKE_SONGS, str(self.data.parent / "in"), *names],
            env=env,
            cwd=ROOT,
            check=True,
            capture_output=True,
            text=True,
        )
        return made.stdout.split()

    def start(self, *names: str) -> None:
        """Start parts: ``serve``, ``worker``, or ``worker-2`` and so on."""
        for name in names:
            part = name.partition("-")[0]
            more = ["--port", str(self.port)] if part == "serve" else []
            with self.log.open("ab") as log:
                self.parts[name] = subprocess.Popen(
                    [sys.executable, "-m", "arkund", part, *more],
                    env=self.env,
                    cwd=ROOT,
                    stderr=log,
                    stdout=log,
                )
        if "serve" in names and not until_up("127.0.0.1", self.port):
            raise AssertionError(f"the server did not start: {self.log.read_text()[-500:]}")

    def kill(self, *names: str) -> None:
        """End parts without a warning."""
        for name in names:
            part = self.parts.pop(name)
            part.send_signal(signal.SIGKILL)
            part.wait()

    def stop(self) -> None:
        """End all that runs."""
        for part in self.parts.values():
            part.terminate()
        for part in self.parts.values():
            with contextlib.suppress(subprocess.TimeoutExpired):
                part.wait(10)
            part.kill()
        self.parts.clear()

    def tracebacks(self) -> int:
        """How many errors nobody foresaw stand in the log."""
        return self.log.read_text(errors="replace").count("Traceback") if self.log.exists() else 0

    def ask(
        self,
        method: str,
        path: str,
        body: bytes = b"",
        headers: dict[str, str] | None = None,
        patience_s: float = 15.0,
    ) -> Answer:
        """One request. Raises `OSError` where the server is gone or never answers."""
        began = time.monotonic()
        link = http.client.HTTPConnection("127.0.0.1", self.port, timeout=patience_s)
        try:
            link.request(method, path, body or None, headers or {})
            found = link.getresponse()
            content = found.read()
        except http.client.HTTPException as error:
            raise ConnectionError(str(error)) from error
        finally:
            link.close()
        cookies = "; ".join(found.headers.get_all("Set-Cookie") or [])
        return Answer(found.status, content, time.monotonic() - began, cookies)

    def get(self, path: str, **query: object) -> Answer:
        return self.ask("GET", f"{path}?{urlencode(query)}" if query else path)

    def post(self, path: str, data: object = None, body: bytes | None = None) -> Answer:
        """A post with the CSRF token of a page."""
        if not self._cookie:
            page = self.ask("GET", "/new/").body.decode()
            found = re.search(r'csrfmiddlewaretoken" value="(\w+)"', page)
            assert found is not None
            self._cookie = found[1]
        headers = {
            "Content-Type": "application/json",
            "X-CSRFToken": self._cookie,
            "Cookie": f"csrftoken={self._cookie}",
        }
        return self.ask("POST", path, json.dumps(data).encode() if body is None else body, headers)

    def guess(self, passphrase: str) -> Answer:
        """Say a passphrase at the door."""
        page = self.ask("GET", "/door/").body.decode()
        found = re.search(r'csrfmiddlewaretoken" value="(\w+)"', page)
        assert found is not None
        body = urlencode({"passphrase": passphrase, "csrfmiddlewaretoken": found[1]}).encode()
        kind = "application/x-www-form-urlencoded"
        headers = {"Content-Type": kind, "Cookie": f"csrftoken={found[1]}"}
        return self.ask("POST", "/door/", body, headers)

    def enter(self, passphrase: str) -> str:
        """The cookie of somebody who was let in."""
        answer = self.guess(passphrase)
        found = re.search(r"sessionid=[^;]+", answer.cookies)
        assert found is not None, answer.status
        return found[0]

    def upload(self, token: str, path: Path) -> Answer:
        """A file through the page's door."""
        self.post("/jobs/0/cancel/")
        mark = "torture-boundary"
        parts = (
            f'--{mark}\r\nContent-Disposition: form-data; name="file"; filename="{path.name}"'
            "\r\nContent-Type: audio/wav\r\n\r\n"
        ).encode()
        body = parts + path.read_bytes() + f"\r\n--{mark}--\r\n".encode()
        headers = {
            "Content-Type": f"multipart/form-data; boundary={mark}",
            "X-CSRFToken": self._cookie,
            "Cookie": f"csrftoken={self._cookie}",
        }
        return self.ask("POST", f"/staging/{token}/", body, headers)

    def python(self, script: str) -> "subprocess.CompletedProcess[str]":
        """A few lines of Python beside what runs, with Django set up."""
        env = self.env | {"DJANGO_SETTINGS_MODULE": "arkund.studio.settings"}
        return subprocess.run(
            [sys.executable, "-c", f"import django; django.setup(); {script}"],
            env=env,
            cwd=ROOT,
            capture_output=True,
            text=True,
            check=False,
        )

    def command(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        """The command line on the same folder."""
        return subprocess.run(
            [sys.executable, "-m", "arkund", *arguments],
            env=self.env,
            cwd=ROOT,
            capture_output=True,
            text=True,
            check=False,
            timeout=120,
        )

    def until_over(self, job: int, within_s: float) -> dict[str, Any]:
        """A job's state when it is over, or after ``within_s``."""
        until = time.monotonic() + within_s
        while True:
            state: dict[str, Any] = self.get(f"/jobs/{job}/").json
            if state["state"] in ("done", "failed", "cancelled") or time.monotonic() > until:
                return state
            time.sleep(0.1)
