"""The kit from above: where pieces and mics stand."""

import math

from arkund.core.kit.plan import place_mics, place_pieces

FULL = ["kick", "snare", "tom_1", "tom_2", "tom_3", "hat", "ride", "crash_1", "crash_2", "crash_3"]


def test_pieces_stand_apart_and_keep_their_names() -> None:
    placed = place_pieces(FULL)
    assert [p.piece for p in placed] == FULL
    for n, a in enumerate(placed):
        for b in placed[n + 1 :]:
            assert math.hypot(a.x - b.x, a.y - b.y) > 0.6 * (a.radius + b.radius), (a, b)


def test_toms_go_round_from_high_to_low_and_the_last_stands_on_the_floor() -> None:
    at = {p.piece: p for p in place_pieces(FULL)}
    assert at["tom_1"].x < at["tom_2"].x < at["tom_3"].x
    assert at["tom_3"].y < at["tom_1"].y == at["tom_2"].y
    alone = place_pieces(["tom_1"])[0]
    assert alone.y == at["tom_1"].y, "a single tom is a rack tom"


def test_close_mics_stand_at_their_piece_and_look_at_it() -> None:
    pieces = place_pieces(FULL)
    at = {p.piece: p for p in pieces}
    for mic in place_mics(["kick_in", "kick_out", "snare_bottom", "tom_3", "hat"], pieces):
        piece = min(pieces, key=lambda p: math.hypot(p.x - mic.aim_x, p.y - mic.aim_y))
        assert (mic.aim_x, mic.aim_y) == (at[piece.piece].x, at[piece.piece].y)
        assert math.hypot(mic.x - mic.aim_x, mic.y - mic.aim_y) < 0.35
        assert piece.piece.split("_")[0] == mic.mic.split("_")[0]


def test_pairs_stand_to_either_side_and_single_ambience_in_the_middle() -> None:
    pieces = place_pieces(FULL)
    left, right, mono = place_mics(["overhead_l", "overhead_r", "overhead"], pieces)
    assert left.x < mono.x < right.x
    assert left.y == right.y == mono.y


def test_a_mic_whose_piece_is_not_there_stands_beside_the_kit() -> None:
    (mic,) = place_mics(["ride"], place_pieces(["kick"]))
    assert math.hypot(mic.x, mic.y) > 1
