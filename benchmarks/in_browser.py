"""What the bench takes in headless Chromium: lanes while they move, and changes until they sound.

`python -m benchmarks.in_browser DIR [SLUG]` serves the data folder ``DIR/data`` that
`benchmarks.long_song` has made (or any other) and drives its Edit page: frames a second while the
lanes zoom and scroll, and the time from letting go of a ruler while playing to the first changed
sample scheduled: of a timing rule over the whole song, of one mic's compressor over eight bars, and
of a layer under the kick where the song has one.
"""

import json
import math
import os
import socket
import statistics
import subprocess
import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from arkund.songs.running import until_up
from benchmarks.long_song import SLUG
from scripts.chromium import FLAGS, PATH


def main() -> None:
    home, slug = Path(sys.argv[1]), sys.argv[2] if len(sys.argv) > 2 else SLUG
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    env = os.environ | {"ARKUND_DATA": str(home / "data")}
    rule = [{"start_bar": 1, "bars": 400, "division": "1/16", "school": "feel", "window_ms": 4}]
    command = [sys.executable, "-m", "arkund", "set", slug, "timing.rules", json.dumps(rule)]
    subprocess.run(command, env=env, check=True, stdout=subprocess.DEVNULL)
    server = subprocess.Popen(
        [sys.executable, "-m", "arkund", "serve", "--port", str(port)],
        env=env,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    base = f"http://127.0.0.1:{port}"
    try:
        if not until_up("127.0.0.1", port):
            raise SystemExit("The server did not start.")
        with sync_playwright() as play:
            browser = play.chromium.launch(executable_path=PATH, args=FLAGS)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(f"{base}/{slug}/edit/?mic=snare_top&bars=9-12")
            page.wait_for_timeout(6000)
            for words, by in (("zoomed by the wheel", (0, -60)), ("scrolled", (60, 0))):
                print(f"lanes {words}: {_frames_a_second(page, by):.0f} frames a second")
            page.locator("#zoom-song").click()
            page.wait_for_timeout(1500)
            print(f"lanes of the whole song, zoomed: {_frames_a_second(page, (0, -60)):.0f}")
            page.keyboard.press("Escape")
            page.locator("#zoom-loop").click()
            _print_heard("an edit", page, "ruler-timing-rules-0-strength")
            page.goto(f"{base}/{slug}/dynamics/?mic=snare_top&bars=9-16&stage=compressor")
            page.wait_for_timeout(4000)
            _print_heard("one control", page, "ruler-mics-snare_top-chain-compressor-threshold_db")
            page.goto(f"{base}/{slug}/replace/?mic=kick_in&bars=9-16")
            page.wait_for_timeout(4000)
            for value in ("fader_db", "following"):
                ruler = f"ruler-layers-kick_layer-{value}"
                if page.locator(f"[id^={ruler}]").count():
                    _print_heard(f"a layer's {value}", page, ruler)
            browser.close()
    finally:
        server.terminate()
        server.wait(20)


# The wheel turns once a frame, in the page: input over the driver's wire is slower than drawing.
_TURN = """async ([dx, dy]) => {
  const canvas = document.getElementById("lanes"), box = canvas.getBoundingClientRect();
  const turn = (n) => canvas.dispatchEvent(new WheelEvent("wheel", {
    deltaX: n < 45 ? dx : -dx, deltaY: n < 45 ? dy : -dy, bubbles: true, cancelable: true,
    clientX: box.left + box.width * 0.6, clientY: box.top + box.height / 2 }));
  const began = performance.now();
  for (let n = 0; n < 90; n += 1) { turn(n); await new Promise(requestAnimationFrame); }
  return 90000 / (performance.now() - began);
}"""


def _frames_a_second(page: Page, by: tuple[int, int]) -> float:
    """Frames drawn a second while the wheel never rests."""
    return float(page.evaluate(_TURN, list(by)))


def _print_heard(what: str, page: Page, ruler: str) -> None:
    swaps = _until_heard(page, f"[id^={ruler}] svg")
    worst = swaps[math.ceil(0.95 * len(swaps)) - 1]
    print(
        f"{what} until heard: median {statistics.median(swaps):.0f} ms, "
        f"95th percentile {worst:.0f} ms of {len(swaps)}",
        flush=True,
    )


def _until_heard(page: Page, selector: str, rounds: int = 20) -> list[float]:
    """Milliseconds from letting go of a ruler to the first changed sample scheduled."""
    page.locator("#work h1").click()
    page.keyboard.press(" ")
    page.wait_for_timeout(5000)
    ruler = page.locator(selector)
    for n in range(rounds):
        # What is found in the meantime moves the rulers in their column.
        ruler.scroll_into_view_if_needed()
        box = ruler.bounding_box()
        assert box
        x = box["x"] + box["width"] * (0.3 + 0.03 * n)
        page.mouse.move(x, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(x + 5, box["y"] + box["height"] / 2)
        page.mouse.up()
        before = page.evaluate("arkund.player.stats.swaps.length")
        for _ in range(400):
            if page.evaluate("arkund.player.stats.swaps.length") > before:
                break
            page.wait_for_timeout(25)
        page.wait_for_timeout(1500)
    page.keyboard.press(" ")
    return sorted(page.evaluate("arkund.player.stats.swaps"))


if __name__ == "__main__":
    main()
