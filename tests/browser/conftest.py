"""The real serve and worker on a data folder of their own, and Debian's Chromium."""

import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Browser, ConsoleMessage, Error, Page, expect, sync_playwright

from arkund.songs.running import until_up
from scripts.chromium import FLAGS, PATH

# On a busy machine a page may take longer than the library's five seconds; one that is right does not wait.
expect.set_options(timeout=20_000)


def rules_broken(page: Page) -> list[str]:
    """The rules of axe-core that a page breaks as it stands, and where."""
    return [
        f"{broken['impact']} {broken['id']}: {node['html'][:120]} {node['failureSummary']}"
        for broken in Axe().run(page).response["violations"]
        for node in broken["nodes"]
    ]


def until(page: Page, condition: str, timeout_s: float = 20.0) -> None:
    """Wait for a condition in the page. Playwright's own wait needs eval inside the page, which
    the Content-Security-Policy rightly refuses."""
    deadline = time.monotonic() + timeout_s
    while time.monotonic() < deadline:
        if page.evaluate(condition):
            return
        time.sleep(0.05)
    raise AssertionError(f"never came true: {condition}")


def shown_revision(page: Page) -> int:
    """The revision that the page shows."""
    return int(page.inner_text("#revision"))


def undo_to(page: Page, wanted: int) -> None:
    """Undo a step at a time, each once the one before is answered, until a revision is shown."""
    until(page, "Object.keys(arkund.bench.patch).length === 0")
    while (shown := shown_revision(page)) != wanted:
        page.keyboard.press("Control+z")
        expect(page.locator("#revision")).not_to_have_text(str(shown))


@pytest.fixture(scope="session")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The data folder of the server under test."""
    return tmp_path_factory.mktemp("browser-data")


def _said(home: Path) -> Path:
    """What server and worker say."""
    return home.parent / f"{home.name}-said.txt"


@pytest.fixture(scope="session")
def address(home: Path) -> Iterator[str]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    env = os.environ | {"ARKUND_DATA": str(home)}
    command = [sys.executable, "-m", "arkund"]
    subprocess.run([*command, "songs"], env=env, check=True, capture_output=True)
    with _said(home).open("w") as said:
        parts = [
            subprocess.Popen([*command, *part], env=env, stderr=said)
            for part in (["serve", "--port", str(port)], ["worker"])
        ]
    base = f"http://127.0.0.1:{port}"
    assert until_up("127.0.0.1", port)
    yield base
    for part in parts:
        part.terminate()
    for part in parts:
        part.wait(20)


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    # Playwright keeps a loop running in this process, which Django would take for one of its own
    # when later tests ask the database.
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
    with sync_playwright() as play:
        chromium = play.chromium.launch(executable_path=PATH, args=FLAGS)
        yield chromium
        chromium.close()


@pytest.fixture(scope="session")
def tab(browser: Browser) -> Page:
    """One tab for all tests: a new one would load and compile every script anew."""
    return browser.new_page(viewport={"width": 1280, "height": 800})


@pytest.fixture
def page(tab: Page, home: Path) -> Iterator[Page]:
    """A page that fails its test on any script error or refused resource."""
    troubles: list[str] = []

    def console(message: ConsoleMessage) -> None:
        # A sentence of refusal comes with status 400 or 409, which the browser reports by itself.
        if message.type == "error" and "status of 4" not in message.text:
            troubles.append(message.text)

    def broken(error: Error) -> None:
        troubles.append(str(error))

    tab.on("pageerror", broken)
    tab.on("console", console)
    yield tab
    tab.evaluate("sessionStorage.clear(), localStorage.clear()")
    tab.goto("about:blank")
    tab.remove_listener("pageerror", broken)
    tab.remove_listener("console", console)
    said = _said(home).read_text(errors="replace")[-3000:] if troubles else ""
    assert troubles == [], said


@pytest.fixture(scope="session")
def song(address: str, browser: Browser, recording: Path) -> str:
    """A song made through the page, from files; returns its address."""
    tab = browser.new_page(viewport={"width": 1280, "height": 800})
    tab.goto(f"{address}/new/")
    tab.fill("#name", "Lantern Yard")
    tab.fill("#tempo", "104")
    sounds = sorted(str(p) for p in recording.glob("*.wav"))
    tab.set_input_files("#files", sounds)
    until(tab, "document.querySelectorAll('#staged tr').length === 13", 90)
    until(tab, "!document.querySelector('#make').disabled", 60)
    first = tab.locator("#staged tr").first
    assert first.locator("select").input_value() == "kick_in"
    tab.click("#make")
    tab.wait_for_url("**/lantern-yard/edit/**", timeout=90_000)
    tab.close()
    return f"{address}/lantern-yard"


SPARE = """
import sys
from pathlib import Path
import django
django.setup()
from tests.making import copied, small_song
from arkund.songs.models import Song
made = small_song(Path(sys.argv[1]), takes=3)
for n in range(int(sys.argv[2])):
    print(copied(Song.objects.get(pk=made.pk), n).slug)
"""


@pytest.fixture(scope="session")
def spare_songs(address: str, home: Path, tmp_path_factory: pytest.TempPathFactory) -> list[str]:
    """Songs of three short takes, made by one process beside the running server."""
    env = os.environ | {
        "ARKUND_DATA": str(home),
        "DJANGO_SETTINGS_MODULE": "arkund.studio.settings",
    }
    made = subprocess.run(
        [sys.executable, "-c", SPARE, str(tmp_path_factory.mktemp("takes")), "9"],
        env=env,
        cwd=Path(__file__).parents[2],
        check=True,
        capture_output=True,
        text=True,
    )
    return made.stdout.split()


@pytest.fixture
def three_takes(address: str, spare_songs: list[str]) -> str:
    """A song of three short takes that no other test has touched."""
    return f"{address}/{spare_songs.pop()}"
