"""What a hand may rely on: a click changes nothing, undo forgives and says so, keys do what they say."""

import re
from pathlib import Path

import mido
import numpy as np
import soundfile as sf
from playwright.sync_api import Page, Route, expect

from tests.browser.conftest import shown_revision, undo_to, until
from tests.browser.test_main_path import _ready, _still

FADER = "#ruler-mics-kick_in-fader_db"


def test_a_click_takes_hold_of_a_ruler_and_only_a_drag_moves_it(page: Page, song: str) -> None:
    page.goto(f"{song}/level/?mic=kick_in&bars=3-4")
    _ready(page)
    box = _still(page, f"{FADER} svg")
    value, revision = page.input_value(f"{FADER} input"), shown_revision(page)
    # Far to the left: −39 dB, where a click set it once.
    page.mouse.click(box["x"] + 0.2 * box["width"], box["y"] + 20)
    expect(page.locator(f"{FADER} svg")).to_be_focused()
    page.wait_for_timeout(1200)
    assert (page.input_value(f"{FADER} input"), shown_revision(page)) == (value, revision)
    # From there a drag moves it by as far as the hand goes, not to where the hand is.
    box = _still(page, f"{FADER} svg")
    page.mouse.move(box["x"] + 0.2 * box["width"], box["y"] + 20)
    page.mouse.down()
    page.mouse.move(box["x"] + 0.2 * box["width"] - 12, box["y"] + 20, steps=4)
    page.mouse.up()
    expect(page.locator("#revision")).not_to_have_text(str(revision))
    moved = float(page.input_value(f"{FADER} input").replace("−", "-"))
    assert -12 < moved < float(value.replace("−", "-"))
    page.keyboard.press("Control+z")
    expect(page.locator("#revision")).to_have_text(str(revision))


def test_undo_stores_what_is_in_hand_first_and_says_what_it_did(page: Page, song: str) -> None:
    page.goto(f"{song}/level/?mic=kick_in&bars=3-4")
    _ready(page)
    field, revision = page.locator(f"{FADER} input"), shown_revision(page)
    before = field.input_value()
    page.locator(f"{FADER} svg").focus()
    page.keyboard.press("ArrowLeft")
    expect(field).not_to_have_value(before)
    nudged = field.input_value()
    page.keyboard.press("Control+z")  # long before the nudge is kept by itself
    said = page.locator("#stepped")
    expect(said).to_have_text(
        f"Undone: kick in: fader {float(nudged.replace('−', '-')):g} dB → 0 dB".replace("-", "−")
    )
    expect(field).to_have_value(before)
    expect(page.locator("#revision")).to_have_text(str(revision))
    page.keyboard.press("Control+Shift+z")
    expect(said).to_contain_text("Redone: kick in: fader")
    expect(field).to_have_value(nudged)
    again = page.inner_text("#revision")
    # In a text field the key is the field's own.
    field.focus()
    page.keyboard.press("Control+z")
    page.wait_for_timeout(500)
    expect(page.locator("#revision")).to_have_text(again)
    page.locator("#work h1").click()
    page.keyboard.press("z")
    expect(page.locator("#revision")).to_have_text(str(revision))


def test_no_panel_speaks_of_what_undo_took_away(page: Page, song: str) -> None:
    page.goto(f"{song}/eq/?mic=kick_in&bars=3-4")
    _ready(page)
    page.get_by_role("button", name="+ band").click()
    until(page, "document.querySelectorAll(\"[data-link*='band=']\").length === 5")
    page.locator("[data-link$='band=b5']").click()
    expect(page.locator("[data-link$='band=b5']")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("z")
    until(page, "document.querySelectorAll(\"[data-link*='band=']\").length === 4")
    page.wait_for_timeout(600)
    expect(page.locator("#notice")).to_be_hidden()
    assert page.locator("[data-path*='bands.b5']").count() == 0


def test_space_presses_what_tab_has_led_to_and_plays_elsewhere(page: Page, song: str) -> None:
    page.goto(f"{song}/level/?mic=kick_in&bars=3-4")
    _ready(page)
    mono = page.locator("#mono")
    mono.click()
    expect(mono).to_have_text("mono on")
    page.keyboard.press(" ")
    until(page, "arkund.player.playing")
    expect(mono).to_have_text("mono on")
    page.keyboard.press("Tab")
    page.keyboard.press("Shift+Tab")
    expect(mono).to_be_focused()
    page.keyboard.press(" ")
    expect(mono).to_have_text("mono off")
    assert page.evaluate("arkund.player.playing")
    page.locator("#work h1").click()
    page.keyboard.press(" ")
    until(page, "!arkund.player.playing")


def test_bands_are_added_moved_and_removed_on_the_curve(page: Page, song: str) -> None:
    page.goto(f"{song}/eq/?mic=snare_top&bars=3-4")
    _ready(page)
    revision, nodes = shown_revision(page), page.locator("#spectrum .node")
    expect(page.locator("#spectrum")).to_contain_text("double-click to add a band")
    box = _still(page, "#spectrum")
    page.mouse.dblclick(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.5)
    expect(nodes).to_have_count(1)
    node = nodes.first
    # Its rulers stand beside.
    expect(page.locator("[data-path$='bands.b1.gain_db']")).to_be_visible()
    expect(page.locator("#spectrum")).not_to_contain_text("double-click")
    said = node.get_attribute("aria-label") or ""

    held = node.bounding_box()
    assert held
    x, y = held["x"] + held["width"] / 2, held["y"] + held["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 60, y + 20, steps=5)
    page.mouse.up()
    expect(page.locator("#revision")).not_to_have_text(str(revision))
    expect(node).not_to_have_attribute("aria-label", said)

    # By keys: along the frequency, up in gain, wider with Alt.
    node.focus()
    gain = page.locator("[data-path$='bands.b1.gain_db'] input")
    width = page.locator("[data-path$='bands.b1.q'] input")
    before, was_wide = gain.input_value(), width.input_value()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Alt+ArrowDown")
    expect(gain).not_to_have_value(before)
    expect(width).not_to_have_value(was_wide)
    until(page, "document.activeElement.dataset.node === 'b1'")
    page.mouse.move(x, y)  # away from the node: the wheel turns nothing
    page.keyboard.press("Delete")
    expect(nodes).to_have_count(0)
    undo_to(page, revision)


def test_a_band_is_let_move_and_made_to_stand_again(page: Page, song: str) -> None:
    page.goto(f"{song}/eq/?mic=snare_top&band=b3&bars=3-4")
    _ready(page)
    _still(page, "#spectrum")
    revision = shown_revision(page)
    page.get_by_role("button", name="let it move").click()
    expect(page.locator("#moved")).to_contain_text("Band 3 moves", timeout=20_000)
    threshold = page.locator("#ruler-mics-snare_top-chain-eq-bands-b3-threshold_db")
    expect(threshold).to_be_visible()
    expect(page.locator("#spectrum .reaches")).to_have_count(1)
    page.get_by_role("button", name="key", exact=True).click()
    source = page.get_by_label("listens to")
    source.select_option(label="snare hits")
    expect(page.locator("#moved")).to_contain_text("Band 3 moves", timeout=20_000)
    page.get_by_role("button", name="let it stand").click()
    expect(threshold).to_have_count(0)
    expect(page.locator("#moved")).to_have_text("")
    undo_to(page, revision)


def test_a_ladder_is_heard_blind_and_what_was_chosen_is_kept(page: Page, song: str) -> None:
    page.goto(f"{song}/dynamics/?mic=snare_top&bars=3-4&stage=compressor")
    _ready(page)
    revision = shown_revision(page)
    page.get_by_role("slider", name="Attack").focus()
    page.keyboard.press("l")
    rungs = page.locator("[data-ladder-part=rungs] button")
    expect(rungs).to_have_count(4)
    page.keyboard.press("Space")
    until(page, "arkund.player.rungs.every((r) => arkund.player.states[r].chunks.size > 0)")
    page.keyboard.press("3")
    until(page, "arkund.player.states['rung 3'].gain.gain.value > 0.01")
    until(page, "arkund.player.states['rung 1'].gain.gain.value < 0.01")
    page.keyboard.press("b")
    expect(rungs.first).to_have_text("1")
    for _ in range(2):
        page.keyboard.press("2")
        page.keyboard.press("Enter")
    page.keyboard.press("b")
    expect(page.locator("[data-ladder-part=said]")).to_contain_text("of 2")
    keep = page.locator("[data-ladder-part=take]")
    chosen = float(keep.inner_text().removeprefix("Keep ").removesuffix(" ms"))
    page.keyboard.press("Enter")
    expect(page.locator("#ladder")).to_be_hidden()
    expect(page.locator("#revision")).not_to_have_text(str(revision))
    field = page.locator("#ruler-mics-snare_top-chain-compressor-attack_ms input")
    assert float(field.input_value()) == chosen
    until(page, "arkund.player.rungs.length === 0 && arkund.player.variant === 'now'")
    page.keyboard.press("Space")


def test_the_curve_fits_its_window_and_keeps_its_type(page: Page, song: str) -> None:
    sizes = []
    for width, height in ((1024, 720), (1280, 800), (2560, 1440)):
        page.set_viewport_size({"width": width, "height": height})
        page.goto(f"{song}/eq/?mic=snare_top&bars=3-4")
        _ready(page)
        box, strip = _still(page, "#spectrum"), page.locator(".strip").bounding_box()
        assert strip
        assert box["y"] + box["height"] < strip["y"]
        letter = page.locator("#spectrum text").first.bounding_box()
        assert letter
        sizes.append(letter["height"])
    assert max(sizes) - min(sizes) < 1


def test_a_bus_is_made_and_fed_by_one_drag_over_the_lanes(page: Page, song: str) -> None:
    page.goto(f"{song}/bus/?mic=kick_in&bars=3-4")
    _ready(page)
    expect(page.locator("#work h1").first).to_have_text("Bus · drum bus")
    before = shown_revision(page)
    page.get_by_role("button", name="+ bus").click()
    page.keyboard.type("Crack")
    page.keyboard.press("Enter")
    expect(page.locator("#work h1").first).to_have_text("Bus · crack bus")
    taps = page.locator("[data-tap]")
    taps.first.wait_for()
    _still(page, "#routing")
    revision = shown_revision(page)
    first, last = (taps.nth(n).bounding_box() for n in (0, 2))
    assert first
    assert last
    page.mouse.move(first["x"] + 3, first["y"] + 3)
    page.mouse.down()
    page.mouse.move(last["x"] + 3, last["y"] + 3, steps=8)
    page.mouse.up()
    expect(page.locator("#routing .dashed")).to_have_count(3)
    expect(page.locator("[data-path^='buses.crack.sends.']")).to_have_count(3)
    made = shown_revision(page)
    assert made == revision + 1
    # Ticked in a list, likewise in one change.
    page.get_by_role("button", name="Add sends").click()
    boxes = page.locator("#more-sends input")
    boxes.nth(0).check()
    boxes.nth(1).check()
    page.locator("#more-sends").get_by_role("button", name="Send").click()
    expect(page.locator("[data-path^='buses.crack.sends.']")).to_have_count(5)
    assert shown_revision(page) == made + 1
    undo_to(page, before)


def test_a_mic_is_treated_twice_and_the_punch_over_its_blend_is_drawn(
    page: Page, song: str
) -> None:
    page.goto(f"{song}/bus/?mic=kick_in&bars=3-4")
    _ready(page)
    before = shown_revision(page)
    page.get_by_role("button", name="treat kick in twice").click()
    expect(page.locator("#work h1").first).to_have_text("Bus · kick in 2 bus")
    expect(page.get_by_role("button", name="untreated")).to_have_attribute("aria-pressed", "true")
    blend = page.locator("[data-path='buses.kick_in_2.fader_db']")
    expect(blend.locator("[data-part=hint]")).to_contain_text("attack of kick and snare")
    expect(blend.locator("path.own")).to_have_count(1)
    undo_to(page, before)
    expect(page.locator("[data-link$='bus=crack']")).to_have_count(0)


def test_the_routing_keeps_its_type_and_takes_mics_groups_and_the_bus_in_hand(
    page: Page, song: str
) -> None:
    heights = []
    for width in (1024, 1280, 2560):
        page.set_viewport_size({"width": width, "height": 900})
        page.goto(f"{song}/bus/?mic=kick_in&bars=3-4")
        _ready(page)
        _still(page, "#routing")
        letter = page.locator("#routing text").first.bounding_box()
        assert letter
        heights.append(letter["height"])
        last = page.locator("#routing rect").last.bounding_box()
        picture = page.locator("#routing").bounding_box()
        assert last
        assert picture
        assert last["x"] + last["width"] <= picture["x"] + picture["width"]
    assert max(heights) - min(heights) < 1
    page.locator("#routing a[aria-label='snare top']").click()
    page.wait_for_url("**mic=snare_top**")
    page.locator("#routing a[aria-label='kick, group']").click()
    expect(page.locator("#work h1").first).to_have_text("Bus · kick group")
    page.locator("#routing a[aria-label='drum bus']").click()
    expect(page.locator("#work h1").first).to_have_text("Bus · drum bus")
    assert "mic=snare_top" in page.url


def test_the_lanes_turn_their_page_when_the_playhead_leaves_it(page: Page, song: str) -> None:
    page.goto(f"{song}/edit/?mic=kick_in&bars=1-4")
    _ready(page)
    show = "arkund.lanes.show(0, arkund.bench.rate)"
    shown = "arkund.lanes.view.start"
    _still(page, "#lanes")
    page.evaluate(show)
    page.keyboard.press("Space")
    until(page, f"{shown} > 0")
    page.keyboard.press("Space")
    assert page.evaluate("arkund.lanes.view.span == arkund.bench.rate")
    page.get_by_role("button", name="follow on").click()
    page.evaluate(show)
    page.keyboard.press("Space")
    until(page, "arkund.player.position() > 1.5 * arkund.bench.rate")
    assert page.evaluate(shown) == 0
    expect(page.get_by_role("button", name="follow off")).to_be_visible()


def test_bars_of_a_difference_are_painted_and_moved_by_mouse_and_keys(
    page: Page, song: str
) -> None:
    page.goto(f"{song}/dynamics/?mic=snare_top&bars=1-1")
    _ready(page)
    form, paints = page.locator("[data-differ]"), page.locator("svg[data-paints]")
    paints.scroll_into_view_if_needed()
    box, bars = _still(page, "svg[data-paints]"), page.evaluate("arkund.bench.bars")

    def middle(bar: int) -> float:
        return float(box["x"] + (bar - 0.5) / bars * box["width"])

    page.mouse.move(middle(2), box["y"] + 9)
    page.mouse.down()
    page.mouse.move(middle(3), box["y"] + 9, steps=4)
    page.mouse.up()
    expect(form.locator("[name=bars]")).to_have_value("2-3")
    expect(form.locator("[name=value]")).to_be_focused()
    form.locator("[name=path]").select_option("mics.snare_top.fader_db")
    form.locator("[name=by]").select_option("1")
    form.locator("[name=value]").fill("-3 dB")
    form.get_by_role("button", name="Add").click()
    block = page.locator("svg[data-spans] .block")
    expect(block).to_have_attribute("aria-valuetext", "bars 2 to 3")
    # After an undo numbers go on from the highest, so they are counted from here.
    added = shown_revision(page)
    block.focus()
    page.keyboard.press("ArrowLeft")
    expect(block).to_have_attribute("aria-valuetext", "bars 1 to 2")
    until(page, f"arkund.bench.revision === {added + 1}")
    # The page has come anew; the block is still in hand.
    expect(block).to_be_focused()
    page.keyboard.press("Shift+ArrowRight")
    until(page, f"arkund.bench.revision === {added + 2}")
    expect(page.locator("#work")).to_contain_text("bars 1–3")
    expect(block).to_be_focused()
    page.keyboard.press("Delete")
    expect(block).to_have_count(0)


def test_loops_are_as_long_as_they_are_set_and_the_song_plays_on(page: Page, song: str) -> None:
    page.goto(f"{song}/level/?mic=kick_in&bars=3-4")
    _ready(page)
    words = page.locator("#looplabel")
    page.keyboard.press("w")
    expect(words).to_have_text("whole song")
    bars = page.evaluate("arkund.bench.bars")
    assert page.evaluate("arkund.bench.loop") == [1, bars]
    # It is there on the next station, and after the page is loaded anew.
    page.locator("[data-station='8']").click()
    page.wait_for_url("**/bus/**")
    assert page.evaluate("arkund.bench.loop") == [1, bars]
    page.reload()
    _ready(page)
    assert page.evaluate("arkund.bench.loop") == [1, bars]
    page.keyboard.press("-")
    page.keyboard.press("o")
    expect(words).to_have_text("bar 1 on")
    assert page.evaluate("arkund.player.length") > 0.9 * page.evaluate("arkund.bench.frames")
    words.click()
    expect(words).to_have_attribute("aria-pressed", "true")


def test_tab_comes_to_the_work_soon_and_arrows_go_on_inside_lists(page: Page, song: str) -> None:
    page.goto(f"{song}/level/?mic=snare_top&bars=3-4")
    _ready(page)
    page.keyboard.press("Tab")
    expect(page.get_by_role("link", name="Skip to the work")).to_be_focused()
    page.keyboard.press("Enter")
    expect(page.locator("#work")).to_be_focused()
    page.reload()
    _ready(page)
    stops = 0
    while not page.evaluate("document.activeElement.closest('#work') !== null"):
        page.keyboard.press("Tab")
        stops += 1
        assert stops <= 18, "Tab never comes to the work"
    # With the three links that skip: fifteen.
    assert stops - 3 <= 15
    page.locator(".rail [aria-current]").focus()
    page.keyboard.press("ArrowRight")
    assert page.evaluate("document.activeElement.dataset.station") == "5"
    page.keyboard.press("End")
    expect(page.locator(".rail a").last).to_be_focused()
    page.keyboard.press("Home")
    expect(page.locator(".rail a").first).to_be_focused()
    page.locator(".mics .chosen").focus()
    page.keyboard.press("ArrowDown")
    lower = page.evaluate("document.activeElement.dataset.mic")
    assert lower not in (None, "snare_top")
    page.keyboard.press("Enter")
    page.wait_for_url(f"**mic={lower}**")


def test_who_waits_for_a_picture_is_told(page: Page, song: str) -> None:
    def late(route: Route) -> None:
        page.wait_for_timeout(900)
        route.continue_()

    page.route("**/picture/**", late)
    page.goto(f"{song}/eq/?mic=snare_top&bars=3-4")
    expect(page.locator("#drawing")).to_be_visible()
    box = page.locator("#spectrum").bounding_box()
    assert box
    assert box["height"] > 200  # its place is there before it is
    expect(page.locator("#spectrum .line").first).to_be_visible()
    expect(page.locator("#drawing")).to_be_hidden()


def test_a_new_song_leaves_out_what_is_not_wanted_and_says_at_once_what_is_wrong(
    page: Page, address: str, tmp_path: Path
) -> None:
    folder = tmp_path / "Slag Run"
    folder.mkdir()
    rng = np.random.default_rng(2)
    for name in ("Kick In", "Kick In copy", "Snare Top"):
        sf.write(folder / f"{name}.wav", 0.1 * rng.standard_normal(48000), 48000)
    page.goto(f"{address}/new/")
    page.set_input_files("#folder", folder)
    rows = page.locator("#staged tr")
    expect(rows).to_have_count(3)
    expect(page.locator("#name")).to_have_value("Slag Run")
    role = lambda name: page.get_by_label(f"Role of Slag Run/{name}.wav")  # noqa: E731
    for name in ("Kick In", "Kick In copy"):
        role(name).select_option("kick_in")
    expect(rows.nth(1)).to_contain_text("Kick In copy.wav is the same mic: change one of them")
    expect(rows.nth(0)).to_contain_text("Kick In.wav is the same mic: change one of them")
    role("Kick In copy").select_option(label="don’t import")
    expect(rows.nth(0)).to_contain_text("not imported")
    expect(rows.nth(1)).to_contain_text("ready")
    page.fill("#name", "")
    page.locator("#make").click()
    expect(page.locator("#problem")).to_have_text("Give the song a name.")
    expect(page.locator("#name")).to_be_focused()
    page.fill("#name", "Slag Run")
    page.locator("#make").click()
    page.wait_for_url("**/slag-run/edit/**", timeout=60_000)
    assert page.evaluate("arkund.bench.mics") == ["kick_in", "snare_top"]


def test_a_sweep_is_no_louder_and_ends_in_a_cut_or_in_nothing(page: Page, song: str) -> None:
    page.goto(f"{song}/eq/?mic=snare_top&bars=3-4&band=b3")
    _ready(page)
    revision = shown_revision(page)
    sweep = page.locator("#sweep")
    sweep.click()
    until(page, "arkund.bench.patch['mics.snare_top.chain.eq.bands.b3.gain_db'] === 9")
    assert page.evaluate("arkund.bench.patch['mics.snare_top.chain.eq.output_db']") <= -9
    page.keyboard.press("Escape")
    until(page, "Object.keys(arkund.bench.patch).length === 0")
    assert shown_revision(page) == revision
    sweep.click()
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    said = page.inner_text("#swept")
    page.keyboard.press("Enter")
    expect(page.locator("#revision")).not_to_have_text(str(revision))
    gain = page.locator("#ruler-mics-snare_top-chain-eq-bands-b3-gain_db input")
    expect(gain).to_have_value("−4.0")
    found = float(
        page.locator("#ruler-mics-snare_top-chain-eq-bands-b3-frequency_hz input").input_value()
    )
    assert abs(found / float(said.split(" Hz")[0]) - 1) < 0.01
    output = page.locator("#ruler-mics-snare_top-chain-eq-output_db input")
    expect(output).to_have_value("0.0")


def test_a_compressor_is_dialled_in_step_by_step(page: Page, song: str) -> None:
    page.goto(f"{song}/dynamics/?mic=snare_top&bars=3-4&stage=compressor")
    _ready(page)
    steps = page.locator("[data-steps] tr")
    expect(steps).to_have_count(6)
    threshold = page.locator("#ruler-mics-snare_top-chain-compressor-threshold_db input")
    before = threshold.input_value()
    steps.first.get_by_role("button", name="too strong").click()
    expect(threshold).not_to_have_value(before)
    expect(steps.first).to_contain_text(re.compile(r"1[12]\.\d dB off the typical hit"))
    steps.first.get_by_role("button", name="back to 4 dB").click()
    expect(steps.first).to_contain_text(re.compile(r"[34]\.\d dB off the typical hit"))
    steps.last.get_by_role("button", name="match").click()
    expect(steps.last).to_contain_text("as loud as bypassed")


def test_a_chain_is_copied_to_the_next_drum_after_it_was_shown(page: Page, song: str) -> None:
    page.goto(f"{song}/dynamics/?mic=snare_top&bars=3-4&stage=compressor")
    _ready(page)
    revision = shown_revision(page)
    form = page.locator("[data-copy-chain]")
    form.locator("select").select_option("kick_in")
    form.get_by_role("button", name="fit and show").click()
    rows = page.locator("#copying tbody tr")
    until(page, "document.querySelectorAll('#copying tbody tr').length > 0")
    assert rows.count() >= 1
    assert shown_revision(page) == revision
    page.locator("#copying-keep").click()
    until(page, "arkund.bench.mic === 'kick_in'")
    expect(page.locator("#revision")).not_to_have_text(str(revision))


def test_sections_are_found_accepted_and_taken_back(page: Page, song: str) -> None:
    page.goto(f"{song}/sections/?mic=snare_top")
    _ready(page)
    revision = shown_revision(page)
    until(page, "document.querySelectorAll('#form .found').length > 0")
    found = page.locator("#form .found").count()
    page.keyboard.press("t")
    expect(page.locator("#revision")).not_to_have_text(str(revision))
    until(page, f"arkund.bench.sections.length === {found}")
    # The page comes anew with the change; what is focused before that is gone.
    until(page, "document.getElementById('loading').textContent === ''")
    until(page, f"document.querySelectorAll('#form .found').length === {found}")
    page.locator("#form .part-block").first.focus()
    page.keyboard.press("Enter")
    until(page, "arkund.bench.loop[0] === 1")
    until(page, "document.querySelectorAll('#side-by-side tbody tr').length > 0")
    page.keyboard.press("z")
    expect(page.locator("#revision")).to_have_text(str(revision))


def test_the_notes_of_a_midi_file_stand_with_their_drums(
    page: Page, song: str, tmp_path: Path
) -> None:
    file = mido.MidiFile()
    track = mido.MidiTrack()
    file.tracks.append(track)
    for note in (36, 38, 81):
        track.append(mido.Message("note_on", channel=9, note=note, velocity=80, time=480))
    file.save(tmp_path / "hits.mid")
    page.goto(f"{song}/edit/?mic=snare_top&bars=3-4")
    _ready(page)
    page.locator("summary", has_text="Hits from a file").click()
    page.set_input_files("#hits-from-file input[name=hits]", tmp_path / "hits.mid")
    notes = page.locator("#notes-in-file")
    expect(notes.locator("[data-note='36']")).to_have_value("kick")
    expect(notes.locator("[data-note='81']")).to_have_value("")
    expect(notes.locator("label").first).to_contain_text("36 · 1 ×")
    # Unsaid, 81 would be no drum of this kit; left out, what is left fits this song nowhere.
    page.get_by_role("button", name="Use these hits").click()
    expect(page.locator("#notice")).to_contain_text("fit the recording nowhere")
