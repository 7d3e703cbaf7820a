"""Pictures of each main view from the demo song, into docs/screenshots.

Starts its own server and worker on a data folder of its own (kept between runs under var/).
"""

import argparse
import os
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path

import django
from playwright.sync_api import Page, expect, sync_playwright

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
django.setup()

from arkund.bench.stations.registry import STATIONS  # noqa: E402
from arkund.songs.running import until_up  # noqa: E402
from scripts.chromium import FLAGS, PATH  # noqa: E402

ROOT = Path(__file__).resolve().parent.parent
SONG = "copper-weather"


def _views(*, after_pass: bool) -> dict[str, str]:
    """Addresses by picture, as the stations' records say: with findings open, or after a first pass."""
    shots = [(station, shot) for station in STATIONS.values() for shot in station.shots]
    return {
        shot.name: f"/{SONG}/{station.slug}/?{shot.query}"
        for station, shot in shots
        if shot.after_pass == after_pass
    }


BEFORE = {"songs": "/", "help": f"/help/?song={SONG}", **_views(after_pass=False)}
AFTER = _views(after_pass=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", help="one view")
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("--width", type=int, default=1280)
    parser.add_argument("--out", type=Path, default=ROOT / "docs" / "screenshots")
    parser.add_argument("--port", type=int, default=8123)
    args = parser.parse_args()
    home = ROOT / "var" / "screenshots"
    env = os.environ | {"ARKUND_DATA": str(home)}
    command = [sys.executable, "-m", "arkund"]
    base = f"http://127.0.0.1:{args.port}"
    start = [*command, "demo", "--no-browser", "--port", str(args.port)]
    _restore(home)
    server = subprocess.Popen(start, env=env, stderr=subprocess.DEVNULL)
    try:
        if not until_up("127.0.0.1", args.port, 150):
            raise SystemExit("The server did not start.")
        _remember(home)
        args.out.mkdir(parents=True, exist_ok=True)
        with sync_playwright() as play:
            browser = play.chromium.launch(executable_path=PATH, args=FLAGS)
            page = browser.new_page(
                viewport={"width": args.width, "height": 800},
                color_scheme="dark" if args.dark else "light",
            )
            page.on("console", lambda m: print(m.type, m.text) if m.type != "log" else None)
            page.on("pageerror", lambda e: print("page error:", e))
            for views in (BEFORE, AFTER):
                wanted = [n for n in views if args.only in (None, n)]
                if wanted and views is AFTER:
                    _first_pass(page, f"{base}/{SONG}/first-pass/")
                for name in wanted:
                    if name == "replace":
                        _layer(page, base + views[name])
                    _shoot(page, base + views[name], args.out / f"{name}.png")
            browser.close()
    finally:
        server.terminate()
        server.wait(15)


def _restore(home: Path) -> None:
    """The demo song as it came in, if it was made before."""
    if (home / "start.sqlite3").exists():
        for left in home.glob("arkund.sqlite3*"):
            left.unlink()
        shutil.copy(home / "start.sqlite3", home / "arkund.sqlite3")


def _remember(home: Path) -> None:
    if not (home / "start.sqlite3").exists():
        with (
            sqlite3.connect(home / "arkund.sqlite3") as now,
            sqlite3.connect(home / "start.sqlite3") as kept,
        ):
            now.backup(kept)


def _first_pass(page: Page, url: str) -> None:
    """Run a first pass as a user does, by its button."""
    page.goto(url)
    page.click("[data-school=Natural]")
    page.wait_for_load_state("networkidle")
    page.click("#pass-go")
    page.locator("[data-steps]").first.wait_for(timeout=300_000)


def _layer(page: Page, url: str) -> None:
    """Lay the snare's own hits under it, by the button."""
    page.goto(url)
    with page.expect_navigation():
        page.get_by_role("button", name="Add layer").click()
    page.locator("#one-hit path").first.wait_for(timeout=60_000)


def _shoot(page: Page, url: str, target: Path) -> None:
    page.goto(url)
    page.wait_for_load_state("networkidle")
    counting = page.locator("#findings-counting")
    if counting.count():
        expect(counting).to_have_text("", timeout=120_000)
    page.wait_for_timeout(700)
    page.screenshot(path=str(target))
    print(target.name)


if __name__ == "__main__":
    main()
