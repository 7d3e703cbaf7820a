"""What a hand may set of a sheet, and checksums before what is stored."""

import pytest

from arkund.core.render.cache import sealed, unsealed
from arkund.core.sheet.channels import Mic
from arkund.core.sheet.settable import SETTABLE, is_settable
from arkund.core.sheet.sheet import Sheet, Take


@pytest.mark.parametrize(
    ("path", "may"),
    [
        ("tempo", True),
        ("tempo.bpm", True),
        ("mics.kick_in.clean.on", True),
        ("mics.kick_in", False),
        ("mics", False),
        ("mics.kick_in.file", False),
        ("takes.0.offset", True),
        ("takes.0", False),
        ("takes.0.corrections.abc", True),
        ("takes.0.corrections", False),
        ("frames", False),
        ("temp", False),
        ("tempos.bpm", False),
        ("", False),
        (".", False),
    ],
)
def test_paths(path: str, may: bool) -> None:
    assert is_settable(path) is may


def test_every_part_of_the_sheet_is_either_set_by_hand_or_known_not_to_be() -> None:
    """A field that is added must be decided on."""
    internal = {
        Sheet: {"version", "rate", "frames", "takes", "moves", "mics"},
        Take: {"number", "sources", "hits", "analysis"},
        Mic: {"role", "index", "side", "file", "unused", "overdub"},
    }
    before = {Sheet: "", Take: "takes.0.", Mic: "mics.kick_in."}
    for model, not_by_hand in internal.items():
        for name in model.model_fields:
            more = ".x" if name == "corrections" else ""
            assert is_settable(before[model] + name + more) is (name not in not_by_hand), name
    assert len(SETTABLE) == len(set(SETTABLE))


def test_a_flipped_bit_anywhere_breaks_the_seal() -> None:
    whole = sealed(b"some bytes of sound")
    assert unsealed(whole) == b"some bytes of sound"
    for place in range(len(whole)):
        for bit in range(8):
            broken = bytearray(whole)
            broken[place] ^= 1 << bit
            assert unsealed(bytes(broken)) is None
    assert unsealed(whole[:3]) is None
