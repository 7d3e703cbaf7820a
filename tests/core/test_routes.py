"""What in the routing can hardly be meant is said; a bus is duplicated muted."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.routes import duplicate, oddities, routes
from arkund.core.sheet.sheet import Sheet
from tests.core.written_song import written_song

SEND: dict[str, Any] = {"db": 0.0}


@pytest.fixture
def sheet(tmp_path: Path) -> Sheet:
    silence = {mic: np.zeros(96_000) for mic in ("kick_in", "snare_top", "overhead_l")}
    made, _ = written_song(tmp_path, silence, 48_000)
    return apply_patch(made, {"buses.strike": {"sends": {"snare_top": SEND}, "fader_db": -9}})


def test_a_sound_routing_has_nothing_odd(sheet: Sheet) -> None:
    assert [one for one in oddities(sheet) if "strike" in one] == []


@pytest.mark.parametrize(
    ("patch", "words"),
    [
        (
            {"buses.strike.sends.snare": SEND},
            "Snare top reaches the strike bus twice: by its own send and by the snare group's.",
        ),
        ({"buses.strike.fader_db": -90}, "Nobody hears the strike bus: it is shut."),
        ({"buses.strike.mute": True}, "Nobody hears the strike bus: it is muted."),
        ({"buses.strike.sends.snare_top": None}, "Nothing is sent to the strike bus."),
        ({"mics.snare_top.mute": True}, "All that is sent to the strike bus is muted."),
        (
            {"buses.more": {"sends": {"strike": SEND, "snare_top": SEND}, "fader_db": -9}},
            "Snare top reaches the more bus twice: by its own send and through the strike bus.",
        ),
    ],
)
def test_what_can_hardly_be_meant_is_said(sheet: Sheet, patch: dict[str, Any], words: str) -> None:
    assert words in oddities(apply_patch(sheet, patch))


def test_a_shut_bus_that_opens_over_some_bars_is_meant(sheet: Sheet) -> None:
    opens = {"path": "buses.strike.fader_db", "bars": "1", "value": -9}
    later = apply_patch(sheet, {"buses.strike.fader_db": -90, "over.d1": opens})
    assert not any("Nobody hears" in one for one in oddities(later))


def test_every_channel_has_its_route(sheet: Sheet) -> None:
    rows = {row["name"]: row for row in routes(sheet)}
    assert rows["snare_top"]["to"] == "snare"
    assert rows["snare_top"]["sends"] == "strike +0.0 dB"
    assert rows["strike"] == {
        "what": "bus",
        "name": "strike",
        "fader": "−9.0 dB",
        "to": "drum bus",
        "sends": "",
    }


def test_a_duplicate_is_muted_and_has_a_name_of_its_own(sheet: Sheet) -> None:
    once = apply_patch(sheet, duplicate(sheet, "strike"))
    twice = apply_patch(once, duplicate(once, "strike"))
    assert [n for n in twice.buses if n.startswith("strike")] == ["strike", "strike_2", "strike_3"]
    assert twice.buses["strike_2"].mute
    assert twice.buses["strike_2"].sends == sheet.buses["strike"].sends
