"""What the two pages of Shape share: a channel's chain, and the stage of it that is in hand."""

from collections.abc import Callable, Mapping
from typing import Any
from urllib.parse import urlencode

from arkund.bench import rulers
from arkund.bench.drawing import Bars
from arkund.bench.in_hand import (
    InHand,
    band_in_hand,
    chain_context,
    channel_in_hand,
    differences_context,
    drums_beside,
    stage_in_hand,
)
from arkund.bench.stations.station import Asked, Station
from arkund.core.kit.roles import is_shell, parse_mic_name
from arkund.core.process.band import MOVING
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.stage import Stage
from arkund.core.process.transient import Transient
from arkund.core.process.values import described
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.sheet import Sheet
from arkund.songs.chains import owned

Drawing = Callable[[Sheet, InHand, Stage | None, Bars], Mapping[str, Any]]


def hand_of(asked: Asked) -> InHand:
    """The channel in the query, or the mic's."""
    return channel_in_hand(asked.sheet, asked.named("channel"), asked.mic)


def stage_of(asked: Asked, hand: InHand, slug: str) -> Stage | None:
    """The stage in the query, or the page's first."""
    return stage_in_hand(hand.channel, asked.named("stage"), slug)


def rulers_of(asked: Asked, slug: str) -> list[rulers.Ruler]:
    """The controls of the stage in hand."""
    hand = hand_of(asked)
    stage = stage_of(asked, hand, slug)
    band = band_in_hand(stage, asked.named("band"))
    return rulers.stage_rulers(hand.path, stage, band) if stage else []


def context_of(asked: Asked, slug: str) -> dict[str, Any]:
    """What a page shows of a channel and its stage."""
    sheet, mic = asked.sheet, asked.mic
    hand = hand_of(asked)
    stage = stage_of(asked, hand, slug)
    band = band_in_hand(stage, asked.named("band"))
    where = {"mic": mic} | ({} if hand.is_mic else {"channel": hand.name})
    return {
        "hand": hand,
        "stage": stage,
        "drum": _drum(hand),
        "stage_label": type(stage).label if stage else "",
        "stage_path": f"{hand.path}.chain.{stage.id}" if stage else "",
        "band": band,
        "where": urlencode(where | ({"stage": stage.id} if stage else {})),
        "bands": [b.id for b in stage.bands] if isinstance(stage, Equaliser) else [],
        "choices": [c.as_dict() for c in rulers.stage_choices(hand.path, stage, band)]
        if stage
        else [],
        "ladders": ladders_of(hand.path, stage, band),
        "above": bands_above(hand.path, stage),
        "sweep": sweep_of(hand.path, stage, band),
        "turn": turned(hand.path, stage, band),
        "chain": chain_context(hand, stage, where)
        | {
            "of": hand.name,
            "others": (others := drums_beside(sheet, hand)),
            "own": owned() if others else [],
        },
        "differences": differences_context(sheet, hand, stage, band),
        "key": (key := rulers.key_sources(sheet, hand.path, stage) if stage else None)
        and key.as_dict(),
        "key_node": f"{hand.name}.{stage.id}.key" if stage and key else "",
    }


def _drum(hand: InHand) -> str:
    """The shell that a mic is close to; empty of anything else."""
    piece = parse_mic_name(hand.name).piece if hand.is_mic else None
    return piece if piece and is_shell(piece) else ""


def ladders_of(channel: str, stage: Stage | None, band: str) -> list[tuple[str, str]]:
    """What of a stage a ladder can be made of, as (path, words): its numbers, then its choices of words."""
    if stage is None:
        return []
    numbers = [(r.path, r.label.lower()) for r in rulers.stage_rulers(channel, stage, band)]
    words = rulers.stage_choices(channel, stage, band)
    return numbers + [(c.path, c.label) for c in words if c.options[0][0] != "true"]


BEGIN_HZ = (1500.0, 200.0, 6000.0)
"""Where a transient shaper's bands begin, the first that is added first."""


def bands_above(channel: str, stage: Stage | None) -> dict[str, Any] | None:
    """Of a transient shaper: its bands over the lowest as (words, path), and the patch that adds one more."""
    if not isinstance(stage, Transient):
        return None
    path, taken = f"{stage_path(channel, stage)}.bands", {b.id for b in stage.bands}
    free = next((n for n in range(len(BEGIN_HZ)) if f"b{n + 2}" not in taken), None)
    return {
        "rows": [(f"from {band.frequency_hz:.0f} Hz", f"{path}.{band.id}") for band in stage.above],
        "add": None if free is None else {f"{path}.b{free + 2}": {"frequency_hz": BEGIN_HZ[free]}},
    }


SWEEP_DB, SWEEP_Q, CUT_DB = 9.0, 8.0, -4.0
"""A sweep's boost, taken off the output as far as that goes, how narrow it is, and the cut that it may end in."""


def sweep_of(channel: str, stage: Stage | None, band: str) -> dict[str, Any] | None:
    """What a sweep of the band in hand tries, and what it ends in, but for the frequency at ``path``."""
    held = (
        next((b for b in stage.bands if b.id == band), None)
        if isinstance(stage, Equaliser)
        else None
    )
    if held is None or not isinstance(stage, Equaliser):
        return None
    at = f"{stage_path(channel, stage)}.bands.{band}"
    lowest = described(Equaliser)["output_db"].low
    assert lowest is not None
    boost = min(SWEEP_DB, stage.output_db - lowest)
    narrow = {f"{at}.on": True, f"{at}.kind": "bell", f"{at}.range_db": 0.0, f"{at}.q": SWEEP_Q}
    output = {f"{stage_path(channel, stage)}.output_db": stage.output_db - boost}
    return {
        "path": f"{at}.frequency_hz",
        "tries": narrow | output | {f"{at}.gain_db": boost},
        "cuts": narrow | {f"{at}.gain_db": CUT_DB},
    }


STARTS_DB = 6.0
"""By so much a band moves that had no gain before."""


def turned(channel: str, stage: Stage | None, band: str) -> dict[str, Any] | None:
    """What makes the band in hand move as far as it stood, or stand as far as it moved: words and patch."""
    bands = stage.bands if isinstance(stage, Equaliser) else ()
    held = next((b for b in bands if b.id == band), None)
    if stage is None or held is None or held.kind not in MOVING:
        return None
    path = f"{stage_path(channel, stage)}.bands.{band}"
    gain, way = (held.range_db, 0.0) if held.moves else (0.0, held.gain_db or STARTS_DB)
    return {
        "words": "let it stand" if held.moves else "let it move",
        "patch": {f"{path}.on": True, f"{path}.gain_db": gain, f"{path}.range_db": way},
    }


def page_of_shape(slug: str, draw: Drawing, **more: Any) -> Station:
    """The record of one of the two pages; ``draw`` makes its picture, ``more`` is said of it alone."""

    def picture(asked: Asked) -> Mapping[str, Any]:
        hand = hand_of(asked)
        return draw(asked.sheet, hand, stage_of(asked, hand, slug), asked.bars)

    return Station(
        room=slug,
        slug=slug,
        title="Shape",
        context=lambda asked: context_of(asked, slug),
        rulers=lambda asked: rulers_of(asked, slug),
        picture=picture,
        **more,
    )
