"""The table of Replace: where samples are placed, what their sum does, and what even hits leave.

Songs are simulated and made of recorded hits, all with fresh seeds, the latter on kits that
development never heard. Truth is the time at which each hit was struck.
"""

import tempfile
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from arkund.core.advise.replace import layers, uneven
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.graph.struck import Row, Struck
from arkund.core.replace.harvest import HEAD_S
from arkund.core.simulate.session import Session
from arkund.core.simulate.studying import study_of
from benchmarks.punch import songs

PIECES = ("kick", "snare")
NEAR_S = 0.03
"""A hit of the list without a true one so near is no matter of placing."""


def main(seeds: Sequence[int]) -> None:
    """Print the table for songs of these seeds."""
    print(
        "| song | piece | hits | placed within, 95 % (ms) | worst (ms) | least sum at the bottom, dB | "
        "on ghosts or doubled | spread of accents, evened, dB |\n|---|---|---|---|---|---|---|---|"
    )
    for name, session in songs(list(seeds)):
        with tempfile.TemporaryDirectory() as scratch:
            study = study_of([session], Path(scratch))
            for piece in PIECES:
                if line := _line(study, session, piece):
                    print(f"| {name} | {piece} | {line} |", flush=True)
    print()


def _line(study: Study, session: Session, piece: str) -> str:
    try:
        laid = study.tried(layers.layer_patch(study, piece, hits="all"))
        accents = study.tried(layers.layer_patch(study, piece, hits="accents"))
    except ArkundError:
        return ""
    node, rows = _rows(laid, piece)
    truth = np.array(sorted(h["time_s"] for h in session.truth["hits"] if h["piece"] == piece))
    errors = _errors_ms(study, node, rows, truth)
    if not len(errors):
        return ""
    before = uneven.spread_db(study, layers.followed(study, piece))[0]
    evened = study.tried(uneven.even_patch(study, piece, 1.0))
    after = uneven.spread_db(evened, layers.followed(study, piece))[0]
    least = min((r.low_db for r in rows if r.gain), default=0.0)
    return " | ".join(
        [
            str(len(rows)),
            f"{np.percentile(errors, 95):.3f}",
            f"{errors.max():.2f}",
            f"{least:+.1f}",
            str(_wrong(accents, piece)),
            f"{before:.1f}, {after:.1f}",
        ]
    )


def _rows(study: Study, piece: str) -> tuple[Struck, list[Row]]:
    node = study.graph.chains[f"{piece}_layer"].entry.inputs[0][0]  # type: ignore[attr-defined]
    assert isinstance(node, Struck)
    return node, node.plan(study.engine)


def _errors_ms(
    study: Study,
    node: Struck,
    rows: Sequence[Row],
    truth: "np.ndarray[tuple[int], np.dtype[np.float64]]",
) -> "np.ndarray[tuple[int], np.dtype[np.float64]]":
    """How far each sample's own hit lies from the hit that it is laid under; hits of the
    list that are none are left out."""
    rate = study.rate

    def struck(samples: float) -> float:
        near = float(truth[np.argmin(np.abs(truth - samples / rate))]) if len(truth) else np.inf
        return near if abs(near - samples / rate) < NEAR_S else np.nan

    out = []
    for row in rows:
        at = node.samples[int(row.sound)].at
        own = struck(at + HEAD_S * rate) - at / rate
        out.append(1000 * abs(row.begins / rate + own - struck(row.onset)))
    errors = np.array(out)
    return errors[np.isfinite(errors)]


def _wrong(study: Study, piece: str) -> int:
    """Hits of a layer on accents that fall on ghosts, and those that follow another within 30 ms."""
    _, rows = _rows(study, piece)
    shift = study.sheet.mics[layers.followed(study, piece)].delay_samples
    ghosts = [h.time_s * study.rate + shift for h in study.hits_on(piece) if h.kind == "ghost"]
    onsets = np.array([r.onset for r in rows])
    on_ghosts = sum(bool(np.any(np.abs(onsets - g) < 2)) for g in ghosts)
    return on_ghosts + int(np.sum(np.diff(onsets) < NEAR_S * study.rate))
