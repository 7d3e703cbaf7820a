"""From station to station on one page: sound, solo, loop and focus stay."""

import pytest
from playwright.sync_api import Browser, Page, Route, expect

from tests.browser.conftest import shown_revision, undo_to, until

STATIONS = [
    "Edit",
    "Align",
    "Level",
    "Clean",
    "Replace",
    "Shape",
    "Bus",
    "Print",
    "Load-in",
    "Align",
]


@pytest.fixture
def playing(page: Page, song: str) -> Page:
    page.goto(f"{song}/level/?mic=snare_top&bars=3-4")
    page.locator("#play").click()
    until(page, "arkund.player.playing && arkund.player.states.now.live.length > 0", 30)
    page.evaluate("window.isTheSamePage = true")
    return page


def _asked_for_by_the_next_loop(page: Page) -> list[str]:
    """The stations of which a picture is asked for when the loop moves on."""
    page.wait_for_timeout(1200)  # for what the visit itself asks for
    asked: list[str] = []
    page.on("request", lambda r: asked.append(r.url) if "/picture/" in r.url else None)
    page.keyboard.press("]")
    for _ in range(100):
        if asked:
            break
        page.wait_for_timeout(100)
    page.wait_for_timeout(700)  # for a second one, which must not come
    return [url.split("/picture/")[1].split("/")[0] for url in asked]


def test_the_player_plays_on_through_ten_stations_without_a_gap(playing: Page) -> None:
    """What was scheduled always reaches beyond what sounds: measured every 10 ms."""
    until(playing, "arkund.player.states.now.chunks.size === arkund.player.count", 30)
    playing.evaluate(
        """() => { window.worst = 1; window.watch = setInterval(() => {
          const { player } = arkund, live = player.states.now.live;
          const ahead = Math.max(...live.map((p) => p.end), 0) - player.context.currentTime;
          window.worst = Math.min(window.worst, ahead); }, 10); }"""
    )
    for name in STATIONS:
        playing.locator(".rail a", has_text=name).click()
        expect(playing.locator(".rail [aria-current=page]")).to_contain_text(name)
        expect(playing.locator("#loading")).not_to_have_text("opening …")
    assert playing.evaluate("window.isTheSamePage && arkund.player.playing")
    assert playing.evaluate("window.worst") > -0.02


def test_a_solo_a_loop_and_the_focus_stay(playing: Page) -> None:
    playing.locator('.strip [data-node="snare_top"]').click()
    playing.locator(".rail a", has_text="Clean").click()
    expect(playing.locator(".rail [aria-current=page]")).to_contain_text("Clean")
    expect(playing.locator('.strip [data-node="snare_top"]')).to_have_attribute(
        "aria-pressed", "true"
    )
    assert playing.evaluate(
        "document.activeElement === document.querySelector('.rail [aria-current=page]')"
    )
    playing.locator('.mics [data-mic="hat"]').click()
    expect(playing.locator('.mics [data-mic="hat"]')).to_have_class("metal chosen")
    solo = playing.locator('.strip [data-node="snare_top"]')
    expect(solo).to_have_attribute("aria-pressed", "true")
    assert playing.evaluate(
        "[arkund.player.node, arkund.bench.mic, arkund.bench.loop.join('-')]"
    ) == [
        "snare_top",
        "hat",
        "3-4",
    ]
    playing.go_back()
    expect(playing.locator('.mics [data-mic="snare_top"]')).to_have_class("snare chosen")
    assert playing.evaluate("window.isTheSamePage && arkund.player.playing")


def test_a_station_that_was_left_hears_of_nothing_more(playing: Page) -> None:
    """Its listeners are gone: a change reaches the present picture once."""
    for name in ("Align", "Level", "Align", "Level"):
        playing.locator(".rail a", has_text=name).click()
        expect(playing.locator(".rail [aria-current=page]")).to_contain_text(name)
    assert _asked_for_by_the_next_loop(playing) == ["level"]


def test_a_page_that_is_no_station_is_gone_to_as_ever(playing: Page) -> None:
    playing.locator(".title a").click()
    playing.wait_for_url("**/")
    assert not playing.evaluate("window.isTheSamePage || false")


def test_of_stations_chosen_in_haste_the_last_one_comes_and_begins_once(playing: Page) -> None:
    playing.evaluate(
        """for (const n of [3, 5, 2, 4]) document.querySelector(`[data-station="${n}"]`).click();"""
    )
    expect(playing.locator(".rail [aria-current=page]")).to_contain_text("Level")
    playing.wait_for_timeout(500)
    expect(playing.locator("#loading")).not_to_have_text("opening …")
    assert _asked_for_by_the_next_loop(playing) == ["level"]
    assert playing.evaluate("window.isTheSamePage && arkund.player.playing")


def test_two_browsers_change_one_song_and_neither_change_is_lost(
    page: Page, browser: Browser, song: str
) -> None:
    page.goto(f"{song}/level/?mic=kick_in&bars=3-4")
    until(page, "arkund.bench.revision > 0")
    revision = shown_revision(page)
    elsewhere = browser.new_context().new_page()
    elsewhere.goto(f"{song}/level/?mic=hat&bars=3-4")
    fader = elsewhere.locator("#ruler-mics-hat-fader_db input")
    fader.fill("-4 dB")
    fader.press("Enter")
    expect(elsewhere.locator("#revision")).not_to_have_text(str(revision))
    elsewhere.context.close()
    # This page does not know of it yet.
    mine = page.locator("#ruler-mics-kick_in-fader_db input")
    mine.fill("-2 dB")
    mine.press("Enter")
    notice = page.locator("#notice")
    expect(notice).to_contain_text("changed elsewhere in the meantime: hat: fader")
    expect(page.locator("#revision")).not_to_have_text(str(revision))
    shown = shown_revision(page)
    notice.get_by_role("button", name="Apply mine on top").click()
    expect(page.locator("#revision")).not_to_have_text(str(shown))
    expect(notice).to_be_hidden()
    sheet = page.evaluate(
        "[arkund.bench.sheet.mics.kick_in.fader_db, arkund.bench.sheet.mics.hat.fader_db]"
    )
    assert sheet == [-2, -4]
    undo_to(page, revision)


def test_a_hand_that_is_quicker_than_the_station_is_not_in_vain(page: Page, song: str) -> None:
    held: list[Route] = []
    page.route("**/stations/clean/page*.js", lambda route: held.append(route))
    page.goto(f"{song}/clean/?mic=snare_top&bars=3-4")
    loop, by_hand = page.locator("#looplabel"), page.get_by_role("button", name="by hand")
    before = shown_revision(page)
    page.keyboard.press("]")
    by_hand.click()
    page.wait_for_timeout(300)
    expect(loop).to_have_text("bars 3–4")
    for route in held:
        route.continue_()
    expect(loop).to_have_text("bars 5–6")
    expect(page.locator("#regions .body").first).to_be_visible(timeout=30_000)
    undo_to(page, before)
