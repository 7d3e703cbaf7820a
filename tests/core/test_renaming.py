"""A bus or group by another name: what names it follows, and undoing it gives the old sheet."""

import pytest

from arkund.core.errors import SheetError
from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.patches import apply_patch, inverse_patch, read_path
from arkund.core.sheet.renaming import renamed
from arkund.core.sheet.sheet import Sheet, Take


@pytest.fixture
def sheet() -> Sheet:
    """Everything names the strike bus or the snare group."""
    mics = {name: new_mic(name, f"{name}.wav") for name in ("kick_in", "snare_top", "snare_bottom")}
    return apply_patch(
        Sheet(
            rate=48000,
            frames=480_000,
            takes=(Take(number=1, sources={}),),
            mics=mics,
            groups=groups_for(mics),
        ),
        {
            "buses.strike": {"sends": {"snare": {"db": -3.0}}, "fader_db": -9.0},
            "buses.dirt": {
                "sends": {"strike": {"db": -6.0}, "snare": {"db": 0.0}},
                "chain": [
                    {"kind": "compressor", "id": "c", "key": {"source": "snare"}},
                ],
            },
            "drum_bus.chain.glue": {"kind": "compressor", "key": {"source": "strike"}},
            "over.o1": {"path": "buses.strike.fader_db", "bars": "2", "value": 0.0},
        },
    )


def test_a_bus_is_followed_by_sends_keys_and_differences(sheet: Sheet) -> None:
    patch = renamed(sheet, "buses.strike", "crack")
    then = apply_patch(sheet, patch)
    assert "strike" not in then.buses
    assert then.buses["crack"] == sheet.buses["strike"]
    assert then.buses["dirt"].sends["crack"].db == -6.0
    assert "strike" not in then.buses["dirt"].sends
    assert read_path(then, "drum_bus.chain.glue.key.source") == "crack"
    assert then.over[0].path == "buses.crack.fader_db"
    assert apply_patch(then, inverse_patch(sheet, patch)) == sheet


def test_a_group_is_followed_by_what_runs_into_it(sheet: Sheet) -> None:
    patch = renamed(sheet, "groups.snare", "backbeat")
    then = apply_patch(sheet, patch)
    fed = [name for name, mic in sheet.mics.items() if mic.to == "snare"]
    assert fed
    assert all(then.mics[name].to == "backbeat" for name in fed)
    assert set(then.buses["dirt"].sends) == {"strike", "backbeat"}
    assert read_path(then, "buses.dirt.chain.c.key.source") == "backbeat"
    assert apply_patch(then, inverse_patch(sheet, patch)) == sheet


def test_what_cannot_be_renamed_is_refused(sheet: Sheet) -> None:
    for channel in ("buses.nobody", "mics.snare_top", "drum_bus", "", "buses"):
        with pytest.raises(SheetError, match="no bus or group"):
            renamed(sheet, channel, "crack")
    with pytest.raises(SheetError, match="called dirt already"):
        renamed(sheet, "buses.strike", "dirt")
    assert renamed(sheet, "buses.strike", "strike") == {}
    for taken in ("snare_top", "kick", "Crack!"):
        with pytest.raises(SheetError):
            apply_patch(sheet, renamed(sheet, "buses.strike", taken))
