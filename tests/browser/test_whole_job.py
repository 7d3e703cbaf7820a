"""The whole job by one hand: keys alone, or the mouse alone."""

import zipfile
from pathlib import Path

from playwright.sync_api import Download, Page, expect

from tests.browser.conftest import until
from tests.browser.test_main_path import _ready
from tests.making import write_small_takes

PASS_MS = 300_000
PRINT_MS = 90_000


def _tab_to(page: Page, selector: str, most: int) -> None:
    """Tab until the focus is on what a selector names, within ``most`` stops."""
    stops = []
    for _ in range(most):
        page.keyboard.press("Tab")
        if page.evaluate("s => document.activeElement.matches(s)", selector):
            return
        stops.append(page.evaluate("document.activeElement.outerHTML.slice(0, 60)"))
    raise AssertionError(f"{most} stops of Tab do not come to {selector}: {stops}")


class Mouse:
    """A hand that clicks, and how often it did."""

    def __init__(self, page: Page) -> None:
        self._page, self.clicks = page, 0

    def click(self, selector: str) -> None:
        self._page.locator(selector).first.click()
        self.clicks += 1


def _sounds(page: Page) -> None:
    until(page, "arkund.player.playing && arkund.player.states.now.live.length > 0", 60)


def _pass_heard(mouse: Mouse, page: Page) -> None:
    mouse.click(".tools a.press")
    page.wait_for_url("**/first-pass/**")
    _ready(page)
    mouse.click("#pass-go")
    page.locator("[data-steps]").first.wait_for(timeout=PASS_MS)
    _ready(page)
    mouse.click("#play")
    _sounds(page)


def _is_whole(printed: Download, folder: Path) -> None:
    target = folder / "print.zip"
    printed.save_as(target)
    with zipfile.ZipFile(target) as archive:
        assert archive.testzip() is None
        assert any(name.endswith("_mix.wav") for name in archive.namelist())


def test_from_the_songs_to_the_print_by_keys_alone(
    page: Page, address: str, three_takes: str, tmp_path: Path
) -> None:
    slug = three_takes.rsplit("/", 1)[-1]
    page.goto(address)
    _tab_to(page, f"a[href^='/{slug}/']", 60)
    page.keyboard.press("Enter")
    page.wait_for_url(f"**/{slug}/**")
    _ready(page)

    _tab_to(page, ".tools a.press", 12)
    page.keyboard.press("Enter")
    page.wait_for_url("**/first-pass/**")
    _ready(page)
    _tab_to(page, "#pass-go", 25)
    page.keyboard.press("Enter")
    page.locator("[data-steps]").first.wait_for(timeout=PASS_MS)
    _ready(page)
    assert page.locator("[data-steps] tr").count() > 8

    page.keyboard.press(" ")
    _sounds(page)
    page.keyboard.press("1")
    expect(page.locator("[data-variant=recorded]")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("2")
    expect(page.locator("[data-variant=now]")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press(" ")
    until(page, "!arkund.player.playing")

    _tab_to(page, "#work a[href*='/print/']", 8)
    page.keyboard.press("Enter")
    page.wait_for_url("**/print/**")
    _ready(page)
    _tab_to(page, "#print-go", 25)
    page.keyboard.press("Enter")
    page.locator("td a[download]").first.wait_for(timeout=PRINT_MS)
    _tab_to(page, "td a[download]", 25)
    with page.expect_download() as waiting:
        page.keyboard.press("Enter")
    _is_whole(waiting.value, tmp_path)


def test_from_a_folder_to_the_print_in_ten_clicks(page: Page, address: str, tmp_path: Path) -> None:
    folder = tmp_path / "Kiln Yard"
    write_small_takes(folder)
    mouse = Mouse(page)
    click = mouse.click
    page.goto(address)
    # Where the folder is named: one click to open the machine's window, one to choose there.
    with page.expect_file_chooser() as chooser:
        click("label:has(#folder)")
    chooser.value.set_files(folder)
    mouse.clicks += 1
    expect(page.locator("#name")).to_have_value("Kiln Yard")
    click("#make")
    page.wait_for_url("**/kiln-yard/**", timeout=60_000)
    _ready(page)
    _pass_heard(mouse, page)
    assert mouse.clicks <= 6
    click(".rail a[href*='/print/']")
    page.wait_for_url("**/print/**")
    _ready(page)
    click("#print-go")
    page.locator("td a[download]").first.wait_for(timeout=PRINT_MS)
    with page.expect_download() as waiting:
        click("td a[download]")
    _is_whole(waiting.value, tmp_path)
    assert mouse.clicks <= 10


def test_the_first_visit_leads_through_the_stations_by_what_it_says_alone(
    page: Page, address: str, tmp_path: Path
) -> None:
    # The demo song is told by its name; a small one of that name is made sooner.
    folder = tmp_path / "Copper Weather"
    write_small_takes(folder)
    page.goto(address)
    page.set_input_files("#folder", folder)
    expect(page.locator("#name")).to_have_value("Copper Weather")
    page.click("#make")
    page.wait_for_url("**/copper-weather/**", timeout=60_000)
    page.goto(address)
    page.get_by_role("button", name="Begin with step 1").click()
    said = page.locator("#first-visit")
    expect(said).to_contain_text("1 of 10")
    _ready(page)
    page.keyboard.press("1")
    page.keyboard.press("Space")
    expect(said).to_contain_text("2 of 10", timeout=30_000)
    go_there = said.get_by_role("link", name="Go there")
    go_there.click()
    page.wait_for_url("**/load-in/**")
    _ready(page)
    # As a hand would: again, if the page was not there yet.
    for _ in range(40):
        page.keyboard.press("f")
        page.wait_for_timeout(500)
        if "3 of 10" in said.inner_text():
            break
    expect(said).to_contain_text("3 of 10")
    for number in (4, 5, 6):
        said.get_by_role("button", name="skip").click()
        expect(said).to_contain_text(f"{number} of 10")
    go_there.click()
    page.wait_for_url("**/first-pass/**")
    _ready(page)
    page.click("#pass-go")
    expect(said).to_contain_text("7 of 10", timeout=PASS_MS)
    # The raw kit sounds still: what is heard goes on from station to station.
    for _ in range(15):
        page.keyboard.press("2")
        page.keyboard.press("1")
        page.wait_for_timeout(2500)  # so long it is listened to
        if "8 of 10" in said.inner_text():
            break
    expect(said).to_contain_text("8 of 10")
    said.get_by_role("button", name="leave").click()
    expect(said).to_be_hidden()
    page.goto(address)
    expect(page.locator(".way .at")).to_contain_text("Blend a bus in")
    expect(page.locator(".way li").nth(2)).to_contain_text("–")
    page.get_by_role("button", name="Go on with step 8").click()
    page.wait_for_url("**/bus/**")
    expect(said).to_contain_text("8 of 10")
