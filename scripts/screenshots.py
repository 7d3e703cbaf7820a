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

from playwright.sync_api import Page, expect, sync_playwright

from arkund.songs.running import until_up

ROOT = Path(__file__).resolve().parent.parent
CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--autoplay-policy=no-user-gesture-required",
]
SONG = "copper-weather"
# As the song comes in, with its findings open.
BEFORE = {
    "songs": "/",
    "new-song": "/new/",
    "load-in": f"/{SONG}/load-in/?mic=crush",
    "edit-takes": f"/{SONG}/takes/?mic=snare_top",
    "edit-timing": f"/{SONG}/edit/?mic=snare_top&bars=7-10",
    "align": f"/{SONG}/align/?mic=snare_bottom",
    "level": f"/{SONG}/level/?mic=tom_1",
    "clean": f"/{SONG}/clean/?mic=tom_3&bars=5-6",
}
# After a first pass.
AFTER = {
    "first-pass": f"/{SONG}/first-pass/?mic=snare_top",
    "shape-eq": f"/{SONG}/eq/?mic=snare_top&band=b2",
    "shape-dynamics": f"/{SONG}/dynamics/?mic=snare_top&bars=5-8&stage=compressor",
    "replace": f"/{SONG}/replace/?mic=snare_top&bars=5-8",
    "bus": f"/{SONG}/bus/?mic=snare_top&bars=9-12",
    "print": f"/{SONG}/print/?mic=snare_top",
    "log": f"/{SONG}/log/?mic=snare_top",
    "compare": f"/{SONG}/compare/?a=1&mic=snare_top",
}


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
            browser = play.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
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
        page.get_by_role("button", name="Lay these hits under it").click()
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
