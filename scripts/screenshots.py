"""Pictures of each main view from the demo song, into docs/screenshots.

Starts its own server and worker on a data folder of its own (kept between runs under var/).
"""

import argparse
import os
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).resolve().parent.parent
CHROMIUM = "/usr/bin/chromium"
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
         "--disable-background-networking", "--disable-component-update", "--disable-sync",
         "--autoplay-policy=no-user-gesture-required"]  # fmt: skip
SONG = "copper-weather"
VIEWS = {
    "songs": "/",
    "load-in": f"/{SONG}/load-in/?mic=snare_top",
    "edit-timing": f"/{SONG}/edit/?mic=snare_top&bars=7-10",
    "align": f"/{SONG}/align/?mic=snare_bottom",
    "level": f"/{SONG}/level/?mic=tom_1",
    "clean": f"/{SONG}/clean/?mic=snare_top&bars=5-6",
    "shape-eq": f"/{SONG}/eq/?mic=snare_top&band=2",
    "shape-dynamics": f"/{SONG}/dynamics/?mic=snare_top&bars=5-8",
    "bus": f"/{SONG}/bus/?mic=snare_top&bars=9-12",
    "print": f"/{SONG}/print/?mic=snare_top",
    "log": f"/{SONG}/log/?mic=snare_top",
    "new-song": "/new/",
}
SETTINGS = {
    "mics.snare_bottom.polarity": "-1",
    "mics.tom_1.clean.on": "true",
    "mics.snare_top.clean.on": "true",
    "mics.snare_top.clean.range_db": "-16",
    "mics.snare_top.eq.bands.1.on": "true",
    "mics.snare_top.eq.bands.1.frequency_hz": "408",
    "mics.snare_top.eq.bands.1.gain_db": "-4.5",
    "mics.snare_top.eq.bands.1.q": "5",
    "mics.snare_top.eq.bands.3.on": "true",
    "mics.snare_top.eq.bands.3.gain_db": "3",
    "mics.snare_top.transient.attack_db": "3",
    "mics.snare_top.compressor.on": "true",
    "mics.snare_top.compressor.threshold_db": "-20",
    "parallel.punch.blend_db": "-9",
    "drum_bus.level_db": "-11",
}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", help="one view")
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("--width", type=int, default=1280)
    parser.add_argument("--out", type=Path, default=ROOT / "docs" / "screenshots")
    parser.add_argument("--port", type=int, default=8123)
    args = parser.parse_args()
    env = os.environ | {"ARKUND_DATA": str(ROOT / "var" / "screenshots")}
    command = [sys.executable, "-m", "arkund"]
    server = subprocess.Popen(
        [*command, "demo", "--no-browser", "--port", str(args.port)], env=env,
        stderr=subprocess.DEVNULL,
    )  # fmt: skip
    base = f"http://127.0.0.1:{args.port}"
    try:
        _wait(base)
        _prepare(command, env)
        args.out.mkdir(parents=True, exist_ok=True)
        with sync_playwright() as play:
            browser = play.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
            page = browser.new_page(
                viewport={"width": args.width, "height": 800},
                color_scheme="dark" if args.dark else "light",
            )
            page.on("console", lambda m: print(m.type, m.text) if m.type != "log" else None)
            page.on("pageerror", lambda e: print("page error:", e))
            for name, path in VIEWS.items():
                if args.only in (None, name):
                    _shoot(page, base + path, args.out / f"{name}.png")
            browser.close()
    finally:
        server.terminate()
        server.wait(15)


def _wait(base: str) -> None:
    for _ in range(300):
        try:
            urllib.request.urlopen(base, timeout=2)
            return
        except OSError:
            time.sleep(0.5)
    raise SystemExit("The server did not start.")


def _prepare(command: list[str], env: dict[str, str]) -> None:
    """Settings that give every picture something to show, once."""
    marker = Path(env["ARKUND_DATA"]) / "prepared"
    if marker.exists():
        return
    for path, value in SETTINGS.items():
        subprocess.run(
            [*command, "set", SONG, path, value], env=env, check=True, stdout=subprocess.DEVNULL
        )
    marker.touch()


def _shoot(page: Page, url: str, target: Path) -> None:
    page.goto(url)
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(700)
    page.screenshot(path=str(target))
    print(target.name)


if __name__ == "__main__":
    main()
