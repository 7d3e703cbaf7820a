"""Copies laid over the song: what sounds where, in which hit's name, and where it is cut."""

from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from arkund.core.errors import SheetError
from arkund.core.graph.building import build
from arkund.core.graph.hits import played_hits
from arkund.core.graph.joining import Passage, Silence, Spliced
from arkund.core.graph.laying import Laid, laid_at, laid_out
from arkund.core.graph.nodes import File
from arkund.core.hits.hit import Hit, hit_id
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch, inverse_patch
from arkund.core.sheet.sheet import Sheet, Source, Take
from arkund.core.timing.copying import LEAD_S, cut_before, hit_length

RATE = 8000
FRAMES = 4 * RATE


def _hit(piece: str, time_s: float) -> Hit:
    return Hit(hit_id(piece, time_s), piece, time_s, 100, "plain", 1.0, 0.0)


@pytest.fixture
def song(tmp_path: Path) -> tuple[Sheet, Library, dict[int, np.ndarray]]:
    """Two takes of two mics, the second half a second into its files, of noise; a hit a second."""
    paths, sounds, takes = {}, {}, []
    rng = np.random.default_rng(5)
    for number, offset in ((1, 0), (2, RATE // 2)):
        sources = {}
        for n, mic in enumerate(("kick_in", "hat")):
            sha = f"{number}{n}" * 32
            sound = (rng.standard_normal(FRAMES + offset) * 0.1).astype(np.float32)
            if mic == "kick_in":
                sounds[number] = sound
            paths[sha] = tmp_path / f"{sha}.wav"
            sf.write(str(paths[sha]), sound, RATE, subtype="FLOAT")
            sources[mic] = Source(sha256=sha)
        takes.append(Take(number=number, sources=sources, hits=f"{number}" * 64, offset=offset))
    mics = {m: new_mic(m) for m in ("kick_in", "hat")}
    sheet = Sheet(rate=RATE, frames=FRAMES, takes=tuple(takes), mics=mics, groups=groups_for(mics))
    hits = {
        "1" * 64: [_hit("kick", t) for t in (0.5, 1.5, 2.5, 3.5)],
        "2" * 64: [_hit("kick", t + 0.5) for t in (0.7, 1.7, 2.7)],
    }
    return sheet, Library(path_of=lambda s: paths[s], hits_of=lambda d: hits[d]), sounds


def _copy(**values: object) -> dict[str, object]:
    return {"take": 2, "source": 4000, "at": 16000, "frames": 8000, "fade_ms": 1.0} | values


def test_copies_cover_and_what_they_cover_goes_on(song: tuple) -> None:
    sheet = song[0]
    laid = apply_patch(sheet, {"copies": [_copy(), _copy(take=1, at=20000, frames=2000)]})
    assert laid_out(laid) == (
        Laid(1, 0),
        Laid(2, 16000, 12000, 1.0),
        Laid(1, 20000, 16000, 1.0),
        Laid(2, 22000, 12000, 1.0),
        Laid(1, 24000, 0, 1.0),
    )
    assert laid_at(laid, 21999).take == 1
    assert laid_at(laid, 23000).shift == 12000
    # To the song's end and beyond nothing is left to go on; side by side they only meet.
    over = apply_patch(sheet, {"copies": [_copy(at=28000), _copy(at=20000)]})
    assert [s.at for s in laid_out(over)] == [0, 20000, 28000]


def test_copied_sound_is_the_take_s_own_to_the_sample(song: tuple) -> None:
    sheet, library, sounds = song
    laid = apply_patch(sheet, {"copies": [_copy()]})
    engine = Engine(RATE, FRAMES, TileCache())
    for mic in ("kick_in", "hat"):
        assert isinstance(build(laid, library).mics[mic].source, Spliced)
    out = engine.read(build(laid, library).mics["kick_in"].source, 0, FRAMES)
    fade = 8
    assert np.array_equal(out[: 16000 - fade], sounds[1][: 16000 - fade])
    in_file = slice(4000 + RATE // 2, 4000 + RATE // 2 + 8000 - fade)
    assert np.array_equal(out[16000 : 24000 - fade], sounds[2][in_file])
    assert np.array_equal(out[24000:], sounds[1][24000:FRAMES])
    back = apply_patch(laid, inverse_patch(sheet, {"copies": [_copy()]}))
    assert isinstance(build(back, library).mics["kick_in"].source, File)


def test_copied_hits_sound_where_they_were_copied_to(song: tuple) -> None:
    sheet, library, _ = song
    laid = apply_patch(sheet, {"copies": [_copy(), _copy(at=24000)]})
    played = played_hits(laid, library.hits_of)
    assert [round(h.time_s, 3) for h in played] == [0.5, 1.5, 2.2, 3.2]
    own = hit_id("kick", 1.2)
    assert [h.id for h in played][2:] == [f"{own}-16000", f"{own}-24000"]


def test_a_copy_from_a_take_that_is_not_there_is_refused(song: tuple) -> None:
    with pytest.raises(SheetError, match="no take 9"):
        apply_patch(song[0], {"copies": [_copy(take=9)]})


def test_a_mic_without_a_file_in_a_take_is_silent_there(song: tuple) -> None:
    sheet, library, sounds = song
    lone = apply_patch(sheet, {"takes.1.sources.kick_in": None, "copies": [_copy()]})
    node = build(lone, library).mics["kick_in"].source
    out = Engine(RATE, FRAMES, TileCache()).read(node, 0, FRAMES)
    assert not out[16000 : 24000 - 8].any()
    assert np.array_equal(out[24000:], sounds[1][24000:FRAMES])
    assert Silence().key != node.key


def test_a_level_keeping_fade_of_the_same_sound_changes_nothing(tmp_path: Path) -> None:
    rng = np.random.default_rng(8)
    sound = (rng.standard_normal(RATE) * 0.1).astype(np.float32)
    sf.write(str(tmp_path / "a.wav"), sound, RATE, subtype="FLOAT")
    file = File(tmp_path / "a.wav", "a" * 64, "mono")
    engine = Engine(RATE, RATE, TileCache())
    level = Spliced((Passage(file, 0, 0, 1, True), Passage(file, 4000, 0, 1500, True)))
    assert np.abs(engine.read(level, 0, RATE) - sound).max() < 1e-6
    power = Spliced((Passage(file, 0, 0, 1), Passage(file, 4000, 0, 1500)))
    assert np.abs(engine.read(power, 3000, 3500)).std() > 1.2 * np.abs(sound[3000:3500]).std()


def test_bars_are_cut_before_the_hits_on_their_lines() -> None:
    early, late = [_hit("snare", 1.98)], [_hit("kick", 4.01)]
    assert cut_before([early, late], [2.0, 4.0]) == pytest.approx(0.02 + LEAD_S)
    assert cut_before([late, late], [2.0, 4.0]) == pytest.approx(LEAD_S)
    # What falls 60 ms before a line belongs to the bar before.
    assert cut_before([[_hit("hat", 1.94)]], [2.0]) == pytest.approx(LEAD_S)


def test_a_copied_hit_ends_before_whichever_next_hit_comes_first() -> None:
    own = [_hit("snare", 1.0), _hit("kick", 1.004), _hit("hat", 1.5)]
    there = [_hit("snare", 3.0), _hit("hat", 3.25)]
    assert hit_length(own, 1.0, there, 3.0) == pytest.approx(0.25 - LEAD_S)
    assert hit_length(own, 1.0, there[:1], 3.0) == pytest.approx(0.5 - LEAD_S)
    assert hit_length(own[:2], 1.0, there[:1], 3.0) == pytest.approx(4.0 - LEAD_S)
