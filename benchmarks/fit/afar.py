"""Trees for what only overheads, or one mic of the whole kit, hear: tables, fit and folds."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.choosing import LIKELY, likeliest
from arkund.core.hits.choose.hits import hits_of
from arkund.core.hits.detect import known_of
from arkund.core.hits.hear.novelty import band_energy
from arkund.core.hits.hear.spectra import LOWEST_DB
from arkund.core.hits.hit import SAME_HIT_S
from arkund.core.hits.listening import listen
from arkund.core.hits.weigh.afar import (
    FAMILIES,
    Afar,
    Known,
    afar_of,
    figures,
    levels_of,
    looked_up,
)
from arkund.core.hits.weigh.verdict import Trees, probabilities
from arkund.core.kit.roles import parse_mic_name, piece_family
from benchmarks.fit.growing import FOLDS, folds_of, grown
from benchmarks.fit.recordings import Lesson
from benchmarks.recorded.scoring import NO_MIC_S, f_measure, matches

NEAR_S = 0.020
"""An onset noticed so near a hit holds it."""

GAIN_DB, MIXED_DB = 6.0, (-12.0, 3.0)
"""How unequally overheads may be mixed to one, and all mics."""

ROLLED_S = 0.03


@dataclass(frozen=True)
class AfarTable:
    """Onsets of one lesson as some ears hear them (``heard_by``): what they ``hold`` ``(onsets,
    families)``, which families are ``asked`` (those without a mic), which onsets ``count``, the true
    hits (family, time, kind), and the first weighing's ``rows``."""

    lesson: str
    heard_by: str
    afar: Afar
    known: dict[str, Known]
    rows: NDArray[np.float32]
    holds: NDArray[np.bool_]
    asked: list[bool]
    counts: NDArray[np.bool_]
    truth: list[tuple[str, float, str]]


def afar_tables(lesson: Lesson, name: str) -> list[AfarTable]:
    """A lesson as it is heard by its overheads with all close mics, or drums' alone, or none; by both
    mixed to one; and by all mics mixed to one, or by one before the kit."""
    rng = np.random.default_rng(sum(map(ord, name)))
    close = {
        p for m in lesson.mics if parse_mic_name(m).is_close and (p := parse_mic_name(m).piece)
    }
    over = [m for m in lesson.mics if m.startswith("overhead_")]
    both = [lesson.mics[m] for m in over]
    out: list[AfarTable | None] = []
    if close and both:
        known = _known(lesson)
        out.append(_table(lesson, name, "known", both, known))
        drums = {p: k for p, k in known.items() if p not in ("hat", "ride")}
        if len(drums) < len(known):
            out.append(_table(lesson, name, "drums known", both, drums))
    if both:
        out.append(_table(lesson, name, "pair", both, {}))
        out.append(_table(lesson, name, "one", [_mixed(both, rng, (-GAIN_DB, GAIN_DB))], {}))
    if close:
        out.append(
            _table(lesson, name, "all", [_mixed(list(lesson.mics.values()), rng, MIXED_DB)], {})
        )
    for mic in ("overhead", "kit"):
        if mic in lesson.mics:
            out.append(_table(lesson, name, mic, [lesson.mics[mic]], {}))
    return [t for t in out if t is not None]


def _known(lesson: Lesson) -> dict[str, Known]:
    """Hits of the pieces with mics, by the trees that ship at present."""
    listened = listen(lesson.mics, lesson.rate)
    if listened is None:
        return {}
    if listened.afar is not None:
        nothing = np.full((len(listened.afar.frames), len(FAMILIES)), np.nan)
        listened = replace(listened, afar=replace(listened.afar, given=nothing))
    return {p: known_of(hits_of(listened.heard(p), listened.signatures)) for p in listened.pieces}


def _mixed(
    mics: Sequence[NDArray[np.float32]], rng: np.random.Generator, between_db: tuple[float, float]
) -> NDArray[np.float32]:
    gains = 10 ** (rng.uniform(*between_db, len(mics)) / 20)
    out: NDArray[np.float32] = np.sum(
        [g * m for g, m in zip(gains, mics, strict=True)], axis=0, dtype=np.float32
    )
    return out


def _table(
    lesson: Lesson,
    name: str,
    heard_by: str,
    ears: list[NDArray[np.float32]],
    known: dict[str, Known],
) -> AfarTable | None:
    afar = afar_of(ears, [band_energy(ear, lesson.rate) for ear in ears], lesson.rate)
    if afar is None:
        return None
    truth = [(piece_family(p), t, kind) for p, t, kind in lesson.hits]
    holds = np.stack(
        [_near(afar.times_s, [t for g, t, _ in truth if g == f], NEAR_S) for f in FAMILIES], axis=1
    )
    loose = _near(afar.times_s, [t for _, t, kind in truth if kind in ("roll", "grace")], ROLLED_S)
    miced = {piece_family(p) for p in known}
    rows = figures(afar.heard, afar.times_s, afar.rises, known)
    afar = replace(afar, ears=())
    return AfarTable(
        name, heard_by, afar, known, rows, holds, [f not in miced for f in FAMILIES], ~loose, truth
    )


def _near(times_s: NDArray[np.float64], others: list[float], within_s: float) -> NDArray[np.bool_]:
    if not others:
        return np.zeros(len(times_s), bool)
    out: NDArray[np.bool_] = (
        np.abs(times_s[:, None] - np.array(others)[None, :]).min(axis=1) <= within_s
    )
    return out


AfarTrees = dict[str, Trees]
"""By prefix in the file: family and time."""


@dataclass(frozen=True)
class Folds:
    """What trees that were fitted to the other folds make of each table, the first and the second
    time; each ``(onsets, families)``."""

    first: list[NDArray[np.float64]]
    second: list[NDArray[np.float64]]


def in_folds(tables: Sequence[AfarTable]) -> Folds:
    """Both times, told by fold."""
    first = _told_by_others(tables, [t.rows for t in tables])
    again = [_again(t, share) for t, share in zip(tables, first, strict=True)]
    return Folds(first, _told_by_others(tables, again))


def _told_by_others(
    tables: Sequence[AfarTable], rows: Sequence[NDArray[np.float32]]
) -> list[NDArray[np.float64]]:
    fold = folds_of([t.lesson for t in tables])
    out: dict[int, NDArray[np.float64]] = {}
    for k in range(FOLDS):
        others = [n for n, t in enumerate(tables) if fold[t.lesson] != k]
        trees = _grown([tables[n] for n in others], [rows[n] for n in others])
        mine = [n for n, t in enumerate(tables) if fold[t.lesson] == k]
        out |= {n: _shares(tables[n], rows[n], trees) for n in mine}
    return [out[n] for n in range(len(tables))]


def fitted_afar(tables: Sequence[AfarTable], folds: Folds) -> AfarTrees:
    """Trees of both times. What the first says of lessons that the second learns from comes from trees
    that did not learn from these."""
    again = [_again(t, share) for t, share in zip(tables, folds.first, strict=True)]
    first, second = _grown(tables, [t.rows for t in tables]), _grown(tables, again)
    return {f"{f}_1_": t for f, t in first.items()} | {f"{f}_2_": t for f, t in second.items()}


def _grown(tables: Sequence[AfarTable], rows: Sequence[NDArray[np.float32]]) -> dict[str, Trees]:
    """A family each."""
    out = {}
    for number, family in enumerate(FAMILIES):
        mine = [n for n, t in enumerate(tables) if t.asked[number]]
        out[family] = grown(
            np.vstack([rows[n][tables[n].counts] for n in mine]),
            np.concatenate([tables[n].holds[tables[n].counts, number] for n in mine]),
            rounds=110,
            rate=0.09,
            leaves=12,
        )
    return out


def _shares(
    table: AfarTable, rows: NDArray[np.float32], trees: dict[str, Trees]
) -> NDArray[np.float64]:
    held = levels_of(table.afar.times_s, table.known)
    share = np.stack([probabilities(rows, trees[f]) for f in FAMILIES], axis=1)
    out: NDArray[np.float64] = np.where(np.isnan(held), share, held > LOWEST_DB)
    return out


def _again(table: AfarTable, share: NDArray[np.float64]) -> NDArray[np.float32]:
    return np.hstack([table.rows, looked_up(table.afar.heard, table.afar.times_s, share)])


def afar_told(tables: Sequence[AfarTable], folds: Folds) -> list[str]:
    """How well each family is told that has no mic, by who hears it, line by line; an onset counts that
    is noticed within 20 ms."""
    rows: dict[str, list[tuple[int, int, int]]] = defaultdict(list)
    for t, share in zip(tables, folds.second, strict=True):
        for number, family in enumerate(FAMILIES):
            if not t.asked[number]:
                continue
            column = share[:, number]
            chosen = likeliest(t.afar.times_s, column, (column > LIKELY) & t.counts, SAME_HIT_S)
            true = [at for f, at, kind in t.truth if f == family and kind not in ("roll", "grace")]
            pairs = matches(true, t.afar.times_s[chosen].tolist(), 2 * NO_MIC_S)
            sim = "simulated" if t.lesson.startswith("sim_") else "recorded"
            rows[f"{sim}, by {t.heard_by}: {family}"].append((len(pairs), len(true), len(chosen)))
    return [
        f"{what}: F {f_measure(r):.3f} ({np.sum(r, axis=0).tolist()})"
        for what, r in sorted(rows.items())
        if sum(n for _, n, _ in r)
    ]
