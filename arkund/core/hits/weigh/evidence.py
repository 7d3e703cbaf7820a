"""What speaks for and against each onset in a piece's mics being a hit of it.

No single figure tells a ghost under a hat from the hat: how far it exceeds bleed, whether it begins
when the bleed of another does, how much it is like the drum's other hits and what was heard just
before all say a little. Here they stand in one row an onset; `verdict` weighs them.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.ownership import EPS, Events, Signatures, Standing
from arkund.core.hits.hear.leading import STIRS, Onsets
from arkund.core.hits.hear.masked import Beginning
from arkund.core.hits.hear.novelty import BANDS, BandEnergy
from arkund.core.kit.roles import piece_family

KINDS = {"kick": 0, "snare": 1, "tom": 2, "hat": 3}
"""A piece's kind as a number; all other cymbals share the next."""

TELLING_BANDS = {"1.2 kHz": 3, "4.5 kHz": 4, "9 kHz": 5}
"""Bands that have a column of their own for how far they exceed bleed."""

SHARES = {"40 Hz": 0, "350 Hz": 2, "4.5 kHz": 4}
"""Bands that have a column for their share of the onset's energy: what it sounds like."""

NAMES = (
    "kind",
    "hits known",
    "level",
    "excess",
    "clear in bright bands",
    "least over",
    "low quarter over",
    "median over",
    "high quarter over",
    "most over",
    *(f"over at {b}" for b in TELLING_BANDS),
    "rise",
    "rise of the nearest",
    "alone",
    "on time",
    "faintest band",
    "scatter of bands",
    *(f"share of {b}" for b in SHARES),
    "left later to 4.5 kHz",
    "usual elsewhere",
    "alike",
    "as much as",
    "sharp",
    "steep",
    "first by",
    "mics before",
    "share that leads",
    "onsets that are clear",
    "how clear these are",
    "first by, usually",
    "share on time",
)
"""Names of the columns, in order. (Twenty-nine more were measured; on kits of sources left out they gained
less than a thousandth of F each.)"""

FOR = frozenset(
    {
        "excess",
        "clear in bright bands",
        "least over",
        "low quarter over",
        "median over",
        "high quarter over",
        "rise",
        "rise of the nearest",
        "alone",
        "faintest band",
        "alike",
        "as much as",
        "sharp",
        "steep",
        "first by",
        "first by, usually",
    }
)
AGAINST = frozenset({"on time", "scatter of bands", "mics before", "share on time"})
"""Columns of which more can only speak for a hit, or only against one."""

EARLIER_S, LATER_S = 0.006, 0.016
"""How far about an onset the drum's shape is looked for."""


@dataclass(frozen=True)
class Context:
    """All that is known of a piece when its onsets are weighed: its number among the
    ``signatures``, how its ``standing`` in each event is, its nearest mic first among ``ears``,
    how all nearest mics hear each event begin (``begins``, this piece's is row ``ear``), which are
    ``alone`` and which come when bleed does (``bleeds``), and how its hits begin (``shape``)."""

    signatures: Signatures
    number: int
    standing: Standing
    ears: Sequence[BandEnergy]
    begins: Onsets
    ear: int
    alone: NDArray[np.bool_]
    bleeds: NDArray[np.int64]
    shape: Beginning | None


def evidence(events: Events, at: NDArray[np.int64], context: Context) -> NDArray[np.float32]:
    """``(onsets, len(NAMES))`` for the onsets at frames ``at``; NaN where a figure is not known.

    Levels are in dB against the piece's loud hits, times in ms, shares 0 to 1.
    """
    it, piece = context.standing, context.signatures.pieces[context.number]
    count = len(at)
    loud = _loud_db(it)
    level = it.level_db - loud
    over = it.over_db
    frames = np.minimum(at, len(context.ears[0].energy) - 1)
    rises = np.stack([ear.rise[frames] for ear in context.ears])
    scaled = events.started / context.signatures.scale[:, None]
    doubt = events.doubt / context.signatures.scale[:, None]
    first, *begins = _beginning(context)
    columns: list[NDArray[np.float64] | float] = [
        KINDS.get(piece_family(piece), len(KINDS)),
        np.log2(1.0 + float(context.signatures.hits[context.number])),
        level,
        it.excess_db,
        _bright(it),
        *np.quantile(over, [0, 0.25, 0.5, 0.75, 1], axis=0),
        *_by_band(it),
        rises.max(axis=0),
        rises[0],
        context.alone.astype(np.float64),
        context.bleeds.astype(np.float64),
        *_colour(scaled, doubt, it, context),
        *_spectrum(events, at, context),
        _elsewhere(scaled, doubt, it, context),
        *_likeness(at, context),
        *begins,
        float(context.begins.leads()[context.ear].mean()) if count else np.nan,
        *_how_clear(it, level),
        *_usually(first, context, (level > -12) & (it.excess_db > 5)),
    ]
    return np.column_stack([np.broadcast_to(c, count) for c in columns]).astype(np.float32)


def _how_clear(it: Standing, level: NDArray[np.float64]) -> list[float]:
    """How many loud onsets stand clear of bleed (in doublings), and by how many dB the median one:
    a drum that is hardly struck has few, and what bleeds into its mic is none."""
    clear = it.excess_db[(it.excess_db > 8.0) & (level > -12.0)]
    return [float(np.log2(1.0 + len(clear))), float(np.median(clear)) if len(clear) else np.nan]


def _usually(
    first_ms: NDArray[np.float64], context: Context, loud: NDArray[np.bool_]
) -> list[float]:
    """Of the loud onsets that exceed bleed: by how many ms the mic is first to hear the median one, and
    the share of those that come when bleed does. A mic full of another drum hears each of its hits late."""
    if not loud.any():
        return [np.nan, np.nan]
    return [float(np.median(first_ms[loud])), float((context.bleeds[loud] > 0).mean())]


def _loud_db(it: Standing) -> float:
    """Level of the loud hits: the clear ones if there are any."""
    clear = it.level_db[it.excess_db >= 12.0]
    levels = np.sort(clear if len(clear) >= 4 else it.level_db)
    return float(levels[-max(4, len(levels) // 20) :].mean()) if len(levels) else 0.0


def _bright(it: Standing) -> NDArray[np.float64]:
    nearest = it.rows // BANDS == it.rows[0] // BANDS
    out: NDArray[np.float64] = it.over_db[nearest & (it.rows % BANDS >= BANDS // 2)].max(
        axis=0, initial=-20.0
    )
    return out


def _by_band(it: Standing) -> list[NDArray[np.float64]]:
    """Excess in the telling bands of the nearest mic, NaN where a band does not tell."""
    out = []
    mic = it.rows[0] // BANDS
    for band in TELLING_BANDS.values():
        here = np.flatnonzero(it.rows == mic * BANDS + band)
        out.append(it.over_db[here[0]] if len(here) else np.full(it.over_db.shape[1], np.nan))
    return out


def _colour(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], it: Standing, context: Context
) -> list[NDArray[np.float64]]:
    """How far the faintest open band falls short of the median, and how much bands scatter about the
    signature, in dB."""
    own = scaled[it.rows]
    ratio_db = 10 * np.log10(
        own / context.signatures.matrix[it.rows, context.number][:, None] + EPS
    )
    is_open = own > doubt[it.rows]
    median = np.median(ratio_db, axis=0)
    faintest = np.where(is_open, ratio_db, np.inf).min(axis=0)
    faintest = np.where(np.isfinite(faintest), faintest, median)
    return [faintest - median, ratio_db.std(axis=0)]


LATER_MS = (45, 85)
"""When what is left of an onset is looked at: a kick's click and a hat have gone, a tom has not."""


LATER_BANDS = slice(2, 4)
"""The bands, 350 Hz to 4.5 kHz, whose decay is measured."""


def _spectrum(events: Events, at: NDArray[np.int64], context: Context) -> list[NDArray[np.float64]]:
    """What an onset sounds like in the nearest mic, whatever is known of the song: some bands' shares of
    what starts, and what is left of it later, in dB."""
    piece = context.signatures.pieces[context.number]
    first = context.signatures.own_rows[piece][0] // BANDS * BANDS
    started = events.started[first : first + BANDS]
    shares = 10 * np.log10(started / (started.sum(axis=0) + 1e-20) + 1e-6)
    last = len(context.ears[0].energy) - 1
    soon = np.minimum(at[:, None] + np.arange(0, 16, 3), last)
    later = np.minimum(at[:, None] + np.arange(*LATER_MS, 4), last)
    band = context.ears[0].smooth[:, LATER_BANDS].sum(axis=1).astype(np.float64)
    most = band[soon].max(axis=1, initial=0.0)
    least = band[later].min(axis=1, initial=np.inf)
    left = 10 * np.log10((least + 1e-14) / (most + 1e-14))
    return [*(shares[band] for band in SHARES.values()), left]


def _elsewhere(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], it: Standing, context: Context
) -> NDArray[np.float64]:
    """How what all other mics hold compares with what a hit as loud as the own mics say would leave there:
    the median over rows, in dB. A hit is heard everywhere as its signature says, whatever else sounds."""
    signatures, own = context.signatures, context.signatures.own_rows
    matrix = signatures.matrix[:, context.number]
    amount = np.median(scaled[it.rows] / matrix[it.rows][:, None], axis=0)
    mine = own[signatures.pieces[context.number]]
    rows = np.setdiff1d(np.flatnonzero(matrix > 0.02 * matrix[mine].max()), mine)
    if not len(rows):
        return np.full(scaled.shape[1], np.nan)
    wanted = matrix[rows][:, None] * amount
    there = 10 * np.log10((scaled[rows] + doubt[rows] + EPS) / (wanted + doubt[rows] + EPS))
    out: NDArray[np.float64] = np.median(there, axis=0)
    return out


def _likeness(at: NDArray[np.int64], context: Context) -> list[NDArray[np.float64]]:
    """Likeness to how the piece's hits begin: the best correlation about the onset, and the
    amplitude there in dB against the loudest."""
    nothing = np.full(len(at), np.nan)
    if context.shape is None or not len(at):
        return [nothing, nothing]
    hop, rate = context.ears[0].hop, context.ears[0].rate
    _, explained, correlation = context.shape.around(
        at * hop, round(EARLIER_S * rate), round(LATER_S * rate)
    )
    rows, best = np.arange(len(at)), np.argmax(explained, axis=1)
    heard = np.isfinite(explained[rows, best])
    alike = np.where(heard, correlation[rows, best], np.nan)
    much = np.where(heard, explained[rows, best], np.nan).astype(np.float64)
    loudest = np.sort(much[heard])[-max(4, len(at) // 20) :].mean() if heard.any() else 1.0
    much = 20 * np.log10(np.maximum(much, 1e-9) / max(float(loudest), 1e-9))
    return [alike.astype(np.float64), np.maximum(much, -60.0)]


def _beginning(context: Context) -> list[NDArray[np.float64]]:
    """How many ms before all other mics the nearest one hears it begin; then how sharply, how steep that
    is against the steepest (dB), the ms again, and how many mics hear it before."""
    begins, ear = context.begins, context.ear
    loudest = np.sort(begins.level[ear])[-4:].mean() if begins.level.shape[1] else 1.0
    others = np.array([m for m in range(len(begins.at)) if m != ear], int)
    lag = (begins.at[others] - begins.at[ear]) / begins.rate * 1000
    stirs = begins.sharp[others] > STIRS
    first = np.where(stirs, lag, 14.0).min(axis=0, initial=14.0)
    before = (stirs & (lag < 0)).sum(axis=0)
    first_ms = np.clip(np.nan_to_num(first, posinf=14.0, neginf=-14.0), -14, 14)
    return [
        first_ms,
        10 * np.log10(begins.sharp[ear] + EPS),
        10 * np.log10(begins.level[ear] / (loudest + 1e-20) + EPS),
        first_ms,
        before.astype(np.float64),
    ]
