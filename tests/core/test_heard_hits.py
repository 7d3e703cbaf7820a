"""The hits of a song as gates and layers ask for them."""

from collections.abc import Sequence
from pathlib import Path

from arkund.core.graph.hits import Hits, all_hits
from arkund.core.graph.sources import gate_rule
from arkund.core.hits.hit import Hit
from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet, Source, Take

RATE = 48000


def _hit(number: int, piece: str, time_s: float, kind: str = "plain") -> Hit:
    return Hit(f"h{number}", piece, time_s, 90, kind, 1.0, 0.0)


HITS = [
    _hit(1, "snare", 2.5),
    _hit(2, "kick", 0.25),
    _hit(3, "snare", 1.00001, "ghost"),
    _hit(4, "snare", 3.0, "accent"),
]


def test_a_piece_has_its_hits_in_their_order_and_where_they_fall() -> None:
    hits = Hits(HITS)
    assert [h.id for h in hits.of("snare")] == ["h1", "h3", "h4"]
    assert hits.places("snare", RATE, 0.0) == (120000, 48000, 144000)
    assert hits.places("snare", RATE, -17.4) == (119983, 47983, 143983)
    assert hits.times_s["h2"] == 0.25
    assert not hits.of("tom_1")
    assert not hits.of(None)


def test_a_gate_opens_on_its_piece_s_hits_and_tells_ghosts_apart() -> None:
    mic = new_mic("snare_top")
    clean = mic.clean.model_copy(update={"opens_on": "hits", "ghosts_db": -6.0})
    late = mic.model_copy(update={"clean": clean, "delay_samples": 10.0})
    rule = gate_rule(late, RATE, lambda: Hits(HITS))
    assert rule.onsets == (120010, 48010, 144010)
    assert rule.ghosts == (48010,)
    # Accents alone are loud; what no ghost changes, no ghost is told apart for.
    assert rule.soft == (120010, 48010)
    even = late.model_copy(update={"clean": clean.model_copy(update={"ghosts_db": 0.0})})
    assert gate_rule(even, RATE, lambda: Hits(HITS)).ghosts == ()


def test_changes_of_sound_leave_the_hits_as_they_were_found() -> None:
    asked = []

    def hits_of(digest: str) -> Sequence[Hit]:
        asked.append(digest)
        return HITS

    library = Library(lambda digest: Path(digest), hits_of)
    mics = {"snare_top": new_mic("snare_top")}
    sheet = Sheet(
        rate=RATE,
        frames=5 * RATE,
        mics=mics,
        groups=groups_for(mics),
        takes=(Take(number=1, sources={"snare_top": Source(sha256="1" * 64)}, hits="0" * 64),),
    )
    found = all_hits(sheet, library)
    assert all_hits(apply_patch(sheet, {"mics.snare_top.trim_db": -3}), library) is found
    assert asked == ["0" * 64]
    without = apply_patch(sheet, {"takes.0.corrections.h1": {"gone": True}})
    assert [h.id for h in all_hits(without, library).of("snare")] == ["h3", "h4"]
