"""What speaks for and against each onset in a piece's mics being a stroke of it.

No single figure tells a ghost under a hat from the hat: how far it exceeds bleed, whether it begins
when the bleed of another does, how much it is like the drum's other strokes and what was heard just
before all say a little. Here they stand in one row an onset; `verdict` weighs them.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.leading import STIRS, Onsets
from arkund.core.hits.masked import Beginning
from arkund.core.hits.novelty import BANDS, BandEnergy
from arkund.core.hits.ownership import EPS, Events, Signatures, Standing
from arkund.core.kit.roles import is_shell, piece_family

KINDS = {"kick": 0, "snare": 1, "tom": 2, "hat": 3}
"""A piece's kind as a number; all other cymbals share the next."""

BAND_NAMES = ("40 Hz", "120 Hz", "350 Hz", "1.2 kHz", "4.5 kHz", "9 kHz")
NAMES = (
    "kind",
    "mics",
    "strokes known",
    "level",
    "rank",
    "excess",
    "clear",
    "clear in bright bands",
    "least over",
    "low quarter over",
    "median over",
    "high quarter over",
    "most over",
    *(f"over at {b}" for b in BAND_NAMES),
    *(f"over in the second mic at {b}" for b in BAND_NAMES),
    "rise",
    "rise of the nearest",
    "alone",
    "on time",
    "faintest band",
    "scatter of bands",
    "what rings on",
    *(f"share of {b}" for b in BAND_NAMES),
    *(f"left later {b}" for b in ("below 350 Hz", "to 4.5 kHz", "above")),
    "least elsewhere",
    "usual elsewhere",
    "alike",
    "as much as",
    "later by shape",
    "sharp",
    "steep",
    "first by",
    "mics before",
    "other drums",
    "other cymbals",
    "bleed",
    "since one before",
    "that one's level",
    "until the next",
    "the next one's level",
    "usual excess",
    "share that leads",
    "onsets that are clear",
    "how clear these are",
    "first by, usually",
    "share heard first",
    "share on time",
)
"""Names of the columns, in order."""

FOR = frozenset(
    {
        "excess",
        "clear",
        "clear in bright bands",
        "least over",
        "low quarter over",
        "median over",
        "high quarter over",
        "rise",
        "rise of the nearest",
        "alone",
        "faintest band",
        "what rings on",
        "least elsewhere",
        "alike",
        "as much as",
        "sharp",
        "steep",
        "first by",
        "first by, usually",
        "share heard first",
    }
)
AGAINST = frozenset({"on time", "scatter of bands", "mics before", "bleed", "share on time"})
"""Columns of which more can only speak for a stroke, or only against one."""

EARLIER_S, LATER_S = 0.006, 0.016
"""How far about an onset the drum's shape is looked for."""

NEAR_S = 0.15
"""How far away other onsets are looked for."""

FAR_MS = 200.0
"""What stands for a neighbour where there is none so near."""


@dataclass(frozen=True)
class Context:
    """All that is known of a piece when its onsets are weighed: its number among the
    ``signatures``, how its ``standing`` in each event is, its nearest mic first among ``ears``,
    how all nearest mics hear each event begin (``begins``, this piece's is row ``ear``), which are
    ``alone`` and which come when bleed does (``bleeds``), and how its strokes begin (``shape``)."""

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

    Levels are in dB against the piece's loud strokes, times in ms, shares 0 to 1.
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
    begins = _beginning(context)
    columns: list[NDArray[np.float64] | float] = [
        KINDS.get(piece_family(piece), len(KINDS)),
        len(np.unique(it.rows // BANDS)),
        np.log2(1.0 + float(context.signatures.strokes[context.number])),
        level,
        scipy.stats.rankdata(level) / max(count, 1),
        it.excess_db,
        it.clear_db,
        _bright(it),
        *np.quantile(over, [0, 0.25, 0.5, 0.75, 1], axis=0),
        *_by_band(it),
        rises.max(axis=0),
        rises[0],
        context.alone.astype(np.float64),
        context.bleeds.astype(np.float64),
        *_colour(scaled, doubt, it, context),
        *_spectrum(events, at, context),
        *_elsewhere(scaled, doubt, it, context),
        *_likeness(at, context),
        *begins,
        *_others(scaled, it, context),
        *_neighbours(at, level),
        float(np.median(it.excess_db[level > -6])) if (level > -6).any() else np.nan,
        float(context.begins.leads()[context.ear].mean()) if count else np.nan,
        *_how_clear(it, level),
        *_usually(begins, context, (level > -12) & (it.excess_db > 5)),
    ]
    return np.column_stack([np.broadcast_to(c, count) for c in columns]).astype(np.float32)


def _how_clear(it: Standing, level: NDArray[np.float64]) -> list[float]:
    """How many loud onsets stand clear of bleed (in doublings), and by how many dB the median one:
    a drum that is hardly struck has few, and what bleeds into its mic is none."""
    clear = it.excess_db[(it.excess_db > 8.0) & (level > -12.0)]
    return [float(np.log2(1.0 + len(clear))), float(np.median(clear)) if len(clear) else np.nan]


def _usually(
    begins: list[NDArray[np.float64]], context: Context, loud: NDArray[np.bool_]
) -> list[float]:
    """Of the loud onsets that exceed bleed: by how many ms the mic is first to hear the median one,
    and the shares of those that it is first to hear and of those that come when bleed does. A mic
    full of another drum hears each of its strokes late."""
    if not loud.any():
        return [np.nan, np.nan, np.nan]
    _, _, first, before = begins
    return [
        float(np.median(first[loud])),
        float((before[loud] == 0).mean()),
        float((context.bleeds[loud] > 0).mean()),
    ]


def _loud_db(it: Standing) -> float:
    """Level of the loud strokes: the clear ones if there are any."""
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
    """Excess in each band of the first two mics, NaN where a band does not tell."""
    out = []
    mics = list(dict.fromkeys(it.rows // BANDS))[:2]
    for mic in [*mics, *[-1] * (2 - len(mics))]:
        for band in range(BANDS):
            here = np.flatnonzero(it.rows == mic * BANDS + band)
            out.append(it.over_db[here[0]] if len(here) else np.full(it.over_db.shape[1], np.nan))
    return out


def _colour(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], it: Standing, context: Context
) -> list[NDArray[np.float64]]:
    """How far the faintest open band falls short of the median, how much bands scatter about the
    signature, and how far what starts exceeds what rang before, all in dB."""
    own = scaled[it.rows]
    ratio_db = 10 * np.log10(
        own / context.signatures.matrix[it.rows, context.number][:, None] + EPS
    )
    is_open = own > doubt[it.rows]
    median = np.median(ratio_db, axis=0)
    faintest = np.where(is_open, ratio_db, np.inf).min(axis=0)
    faintest = np.where(np.isfinite(faintest), faintest, median)
    rings = np.median(10 * np.log10(own / (doubt[it.rows] + EPS) + EPS), axis=0)
    return [faintest - median, ratio_db.std(axis=0), rings]


LATER_MS = (45, 85)
"""When what is left of an onset is looked at: a kick's click and a hat have gone, a tom has not."""


def _spectrum(events: Events, at: NDArray[np.int64], context: Context) -> list[NDArray[np.float64]]:
    """What an onset sounds like in the nearest mic, whatever is known of the song: each band's share
    of what starts, and what is left of it later in three ranges, in dB."""
    piece = context.signatures.pieces[context.number]
    first = context.signatures.own_rows[piece][0] // BANDS * BANDS
    started = events.started[first : first + BANDS]
    shares = 10 * np.log10(started / (started.sum(axis=0) + 1e-20) + 1e-6)
    energy = context.ears[0].smooth
    last = len(energy) - 1
    soon = np.minimum(at[:, None] + np.arange(0, 16, 3), last)
    later = np.minimum(at[:, None] + np.arange(*LATER_MS, 4), last)
    left = []
    for low, high in ((0, 2), (2, 4), (4, BANDS)):
        band = energy[:, low:high].sum(axis=1).astype(np.float64)
        most = band[soon].max(axis=1, initial=0.0)
        left.append(
            10 * np.log10((band[later].min(axis=1, initial=np.inf) + 1e-14) / (most + 1e-14))
        )
    return [*shares, *left]


def _elsewhere(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], it: Standing, context: Context
) -> list[NDArray[np.float64]]:
    """How what all other mics hold compares with what a stroke as loud as the own mics say would
    leave there: the least (10th percentile) and the median over rows, in dB. A stroke is heard
    everywhere as its signature says, whatever else sounds."""
    signatures, own = context.signatures, context.signatures.own_rows
    matrix = signatures.matrix[:, context.number]
    amount = np.median(scaled[it.rows] / matrix[it.rows][:, None], axis=0)
    mine = own[signatures.pieces[context.number]]
    rows = np.setdiff1d(np.flatnonzero(matrix > 0.02 * matrix[mine].max()), mine)
    if not len(rows):
        return [np.full(scaled.shape[1], np.nan)] * 2
    wanted = matrix[rows][:, None] * amount
    there = 10 * np.log10((scaled[rows] + doubt[rows] + EPS) / (wanted + doubt[rows] + EPS))
    least, usual = np.quantile(there, [0.1, 0.5], axis=0)
    return [least, usual]


def _likeness(at: NDArray[np.int64], context: Context) -> list[NDArray[np.float64]]:
    """Likeness to how the piece's strokes begin: the best correlation about the onset, the
    amplitude there in dB against the loudest, and how far from the onset it lies in ms."""
    nothing = np.full(len(at), np.nan)
    if context.shape is None or not len(at):
        return [nothing, nothing, nothing]
    hop, rate = context.ears[0].hop, context.ears[0].rate
    places, explained, correlation = context.shape.around(
        at * hop, round(EARLIER_S * rate), round(LATER_S * rate)
    )
    rows, best = np.arange(len(at)), np.argmax(explained, axis=1)
    heard = np.isfinite(explained[rows, best])
    alike = np.where(heard, correlation[rows, best], np.nan)
    much = np.where(heard, explained[rows, best], np.nan).astype(np.float64)
    later = np.where(heard, (places[rows, best] - at * hop) / rate * 1000, np.nan)
    loudest = np.sort(much[heard])[-max(4, len(at) // 20) :].mean() if heard.any() else 1.0
    much = 20 * np.log10(np.maximum(much, 1e-9) / max(float(loudest), 1e-9))
    return [alike.astype(np.float64), np.maximum(much, -60.0), later]


def _beginning(context: Context) -> list[NDArray[np.float64]]:
    """How sharply the nearest mic hears it begin, how steep that is against the steepest (dB), how
    many ms before all other mics, and how many of them hear it before."""
    begins, ear = context.begins, context.ear
    loudest = np.sort(begins.level[ear])[-4:].mean() if begins.level.shape[1] else 1.0
    others = np.array([m for m in range(len(begins.at)) if m != ear], int)
    lag = (begins.at[others] - begins.at[ear]) / begins.rate * 1000
    stirs = begins.sharp[others] > STIRS
    first = np.where(stirs, lag, 14.0).min(axis=0, initial=14.0)
    before = (stirs & (lag < 0)).sum(axis=0)
    return [
        10 * np.log10(begins.sharp[ear] + EPS),
        10 * np.log10(begins.level[ear] / (loudest + 1e-20) + EPS),
        np.clip(np.nan_to_num(first, posinf=14.0, neginf=-14.0), -14, 14),
        before.astype(np.float64),
    ]


def _others(
    scaled: NDArray[np.float64], it: Standing, context: Context
) -> list[NDArray[np.float64]]:
    """The loudest other drum and the loudest other cymbal, each as its own mics hear the event (dB
    against its loud ones), and the bleed's share of what this piece's mics hold (dB)."""
    signatures = context.signatures
    most = {True: np.full(scaled.shape[1], -60.0), False: np.full(scaled.shape[1], -60.0)}
    for number, piece in enumerate(signatures.pieces):
        rows = signatures.own_rows[piece]
        if number == context.number or not len(rows):
            continue
        telling = rows[
            signatures.matrix[rows, number] > 0.1 * signatures.matrix[rows, number].max()
        ]
        level = 10 * np.log10(np.median(scaled[telling], axis=0) + EPS)
        level -= np.sort(level)[-max(4, len(level) // 20) :].mean()
        most[is_shell(piece)] = np.maximum(most[is_shell(piece)], level)
    return [most[True], most[False], np.median(-it.over_db, axis=0)]


def _neighbours(at: NDArray[np.int64], level: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Time to the loudest onset of this mic within `NEAR_S` before and after, and how much louder
    it is in dB."""
    reach = round(NEAR_S * 1000)
    since, earlier = np.full(len(at), FAR_MS), np.full(len(at), -40.0)
    until, later = since.copy(), earlier.copy()
    for i in range(len(at)):
        first, last = np.searchsorted(at, [at[i] - reach, at[i] + reach])
        if first < i:
            best = first + int(np.argmax(level[first:i]))
            since[i], earlier[i] = at[i] - at[best], level[best] - level[i]
        if i + 1 < last:
            best = i + 1 + int(np.argmax(level[i + 1 : last]))
            until[i], later[i] = at[best] - at[i], level[best] - level[i]
    return [since, earlier, until, later]
