"""Pages beside the stations, by the rules of axe-core; the stations' own stand where they are opened anyway."""

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import rules_broken
from tests.browser.test_main_path import _ready


@pytest.mark.parametrize("path", ["/", "/new/", "/help/", "/no-such-song/edit/"])
def test_a_page_beside_the_stations_breaks_no_rule(
    page: Page, address: str, song: str, path: str
) -> None:
    page.goto(f"{address}{path}")
    page.wait_for_load_state("networkidle")
    assert rules_broken(page) == []


def test_the_list_of_keys_breaks_no_rule(page: Page, song: str) -> None:
    page.goto(f"{song}/level/?mic=snare_top&bars=3-4")
    _ready(page)
    page.keyboard.press("?")
    expect(page.locator("#keys")).to_be_visible()
    assert rules_broken(page) == []
