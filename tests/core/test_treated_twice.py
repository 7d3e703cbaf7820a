"""A second treatment of one mic beside the first: from before its chain, and in step with it."""

from pathlib import Path
from typing import Any

import numpy as np

from arkund.core.graph.building import build
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.routes import routes, second_treatment
from arkund.core.sheet.sheet import Sheet
from tests.core.written_song import written_song

RATE = 48_000
LATE = {"id": "late", "kind": "transient", "attack_db": 0.0, "lookahead_ms": 5.0, "on": True}
LOUD = {"id": "sat", "kind": "saturation", "drive_db": 12.0, "on": True}


def song(folder: Path, patch: dict[str, Any]) -> tuple[Sheet, Library]:
    rng = np.random.default_rng(3)
    sounds = {
        mic: 0.05 * rng.standard_normal(RATE) for mic in ("snare_top", "overhead_l", "overhead_r")
    }
    sheet, paths = written_song(folder, sounds, RATE)
    return apply_patch(sheet, patch), Library(paths.__getitem__, lambda digest: [])


def heard(sheet: Sheet, library: Library, node: str) -> np.ndarray[Any, Any]:
    graph = build(sheet, library)
    found = graph.output if node == "output" else graph.returns[node]
    return Engine(RATE, sheet.frames, TileCache()).read(found, 0, sheet.frames)


def test_the_second_treatment_hears_the_mic_before_its_chain(tmp_path: Path) -> None:
    treated, library = song(tmp_path, {"mics.snare_top.chain": [LOUD]})
    plain = apply_patch(treated, {"mics.snare_top.chain": []})
    twice = apply_patch(treated, second_treatment(treated, "snare_top"))
    twice = apply_patch(twice, {"buses.snare_top_2.fader_db": 0})
    once = apply_patch(
        plain,
        {"buses.dry": {"sends": {"snare_top": {"db": 0}}, "fader_db": 0}},
    )
    np.testing.assert_array_equal(heard(twice, library, "snare_top_2"), heard(once, library, "dry"))


def test_both_treatments_are_in_step_to_the_sample(tmp_path: Path) -> None:
    """A chain that looks ahead and changes nothing, beside none at all: together twice the one."""
    late, library = song(tmp_path, {"mics.snare_top.chain": [LATE]})
    twice = apply_patch(late, second_treatment(late, "snare_top"))
    shut = heard(twice, library, "output")
    both = heard(apply_patch(twice, {"buses.snare_top_2.fader_db": 0}), library, "output")
    alone = heard(apply_patch(late, {"mics.snare_top.mute": True}), library, "output")
    np.testing.assert_allclose(both - alone, 2 * (shut - alone), atol=1e-6)
    np.testing.assert_array_equal(shut, heard(late, library, "output"))


def test_a_pair_goes_as_one_and_names_are_never_taken_twice(tmp_path: Path) -> None:
    sheet, _ = song(tmp_path, {})
    once = apply_patch(sheet, second_treatment(sheet, "overhead_r"))
    again = apply_patch(once, second_treatment(once, "overhead_l"))
    assert list(again.buses) == ["overhead_2", "overhead_3"]
    assert set(again.buses["overhead_2"].sends) == {"overhead_l", "overhead_r"}
    rows = {row["name"]: row["sends"] for row in routes(once)}
    assert rows["overhead_l"] == "overhead_2 +0.0 dB, before the chain"


def test_a_group_too_is_taken_before_its_chain(tmp_path: Path) -> None:
    send = {"db": 0, "untreated": True}
    loud, library = song(
        tmp_path,
        {"groups.snare.chain": [LOUD], "buses.dry": {"sends": {"snare": send}, "fader_db": 0}},
    )
    clear = apply_patch(loud, {"groups.snare.chain": [], "buses.dry.sends.snare.untreated": False})
    np.testing.assert_array_equal(heard(loud, library, "dry"), heard(clear, library, "dry"))
