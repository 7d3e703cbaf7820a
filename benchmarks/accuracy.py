"""How right the judgement is: pooled over fresh seeds of every preset, against the ground truth.

Prints the table of docs/accuracy.md. Seeds are drawn anew unless given, so that nothing can have
been tuned to them.
"""

import argparse
import secrets
from collections import defaultdict
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from arkund.core.align.takes import align_take
from arkund.core.clean.gate import Timing, envelope
from arkund.core.clean.proposal import propose_gate, report_gate
from arkund.core.errors import ArkundError
from arkund.core.hits.detect import detect
from arkund.core.hits.hit import Hit
from arkund.core.hits.unlisted import unlisted_hits
from arkund.core.kit.roles import close_mics, parse_mic_name, piece_family
from arkund.core.simulate.presets import PRESETS
from arkund.core.simulate.session import Session, simulate
from arkund.core.timing.beginning import first_grid
from arkund.core.units import ms_to_samples
from benchmarks import aligning, gating, judging, punch, replacing, timing, voices
from benchmarks.recorded.report import report

TOLERANCE_S = 0.005


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, nargs="*", help="fresh ones by default")
    parser.add_argument("--count", type=int, default=5)
    parser.add_argument(
        "--without-findings",
        action="store_true",
        help="leave out the faults of all takes, which take the longest",
    )
    parser.add_argument(
        "--recorded",
        choices=("with", "without", "only"),
        default="with",
        help="recordings made of recorded hits",
    )
    parser.add_argument(
        "--punch",
        choices=("with", "without", "only"),
        default="with",
        help="what a first pass gains, song by song",
    )
    parser.add_argument(
        "--replace",
        choices=("with", "without", "only"),
        default="with",
        help="where layers are placed, and even hits",
    )
    parser.add_argument(
        "--align",
        choices=("with", "without", "only"),
        default="with",
        help="what one solution for the whole kit does to its pairs",
    )
    args = parser.parse_args()
    seeds = args.seeds or [secrets.randbelow(1_000_000) for _ in range(args.count)]
    if args.align != "without":
        aligning.main(seeds)
    if args.align == "only":
        return
    if args.replace != "without":
        replacing.main(seeds)
    if args.replace == "only":
        return
    if args.punch != "without":
        punch.main(seeds)
    if args.punch == "only":
        return
    if args.recorded != "without":
        try:
            report(seeds[:1])
        except ArkundError as error:
            print(error, "\n")
    if args.recorded == "only":
        return
    print(f"presets: {', '.join(PRESETS)} · seeds: {', '.join(map(str, seeds))}\n")
    pool: dict[str, list[Any]] = defaultdict(list)
    for preset in PRESETS:
        for seed in seeds:
            session = simulate(preset, seed, keep_stems=True)
            hits, maybes = detect(session.mics, session.rate)
            voices.pool_voices(session, pool)
            _pool_hits(session, hits, pool)
            _pool_pairs(session, hits, pool)
            own = {
                mic: stems[piece]
                for mic, stems in session.stems.items()
                if (piece := parse_mic_name(mic).piece) in stems
            }
            unlisted = unlisted_hits(session.mics, session.rate, hits, maybes)
            _pool_gates(session, hits, unlisted, pool)
            pool["gates"] += gating.gates_of(
                session.mics, own, session.rate, hits, unlisted, session.truth["hits"]
            )
            _pool_tempo(session, hits, pool)
            timing.pool_timing(session, hits, pool)
            if not args.without_findings:
                judging.judge(preset, seed, pool)
    _print_table(pool)
    print("\n" + voices.table(pool))
    if args.without_findings:
        return
    print("\nNot found, doubtful or wrong:", *pool["misses"] or ["none"], sep="\n* ")
    print("\nMade up:", *pool["false"] or ["none"], sep="\n* ")


def _matches(true: list[dict[str, Any]], found: list[Hit]) -> list[tuple[int, int]]:
    free = set(range(len(found)))
    out = []
    for i, t in enumerate(true):
        near = min(free, key=lambda j: abs(found[j].time_s - t["time_s"]), default=None)
        if near is not None and abs(found[near].time_s - t["time_s"]) <= TOLERANCE_S:
            free.remove(near)
            out.append((i, near))
    return out


def _pool_hits(session: Session, hits: list[Hit], pool: dict[str, list[Any]]) -> None:
    everything = session.truth["hits"]
    for piece in session.preset.kit.pieces:
        true = [h for h in everything if h["piece"] == piece]
        found = [h for h in hits if h.piece == piece]
        pairs = _matches(true, found)
        family = piece_family(piece)
        has_mic = bool(close_mics(session.mics, piece))
        group = family if has_mic else f"{family} (no mic of its own)"
        pool[f"hits {group}"].append((len(pairs), len(true), len(found)))
        if not has_mic:
            continue
        pool["time"] += [abs(found[j].time_s - true[i]["time_s"]) * 1000 for i, j in pairs]
        ghosts = {i for i, h in enumerate(true) if h["kind"] == "ghost"}
        if ghosts:
            matched = {j for _, j in pairs}
            stray = sum(h.kind == "ghost" for j, h in enumerate(found) if j not in matched)
            got = sum(i in ghosts for i, _ in pairs)
            pool["hits ghosts"].append((got, len(ghosts), got + stray))
    close = {p for p in session.preset.kit.pieces if close_mics(session.mics, p)}
    for h in hits:
        if h.piece in close:
            near = [t["piece"] for t in everything if abs(t["time_s"] - h.time_s) <= TOLERANCE_S]
            if near:
                pool["owner"].append(h.piece in near)


def _pool_pairs(session: Session, hits: list[Hit], pool: dict[str, list[Any]]) -> None:
    truth = {(p["piece"], p["mic"], p["reference"]): p for p in session.truth["pairs"]}
    for pair in align_take(session.mics, hits, session.rate):
        wanted = truth.get((pair.piece, pair.mic, pair.reference))
        if wanted is None:
            continue
        error = abs(pair.delay_samples - wanted["delay_samples"])
        right = pair.polarity == wanted["polarity"]
        kind = "overhead" if pair.reference.startswith("overhead") else "piece"
        pool[f"delay {kind}"].append((error, pair.sure))
        if pair.sure:
            pool["polarity sure"].append(right)
        if pair.hits >= 8:
            pool["sure share"].append(pair.sure)


def _pool_gates(
    session: Session,
    hits: list[Hit],
    unlisted: Mapping[str, Sequence[float]],
    pool: dict[str, list[Any]],
) -> None:
    """Proposed gates of close shell mics on the true own hits; bleed on the bleed stems."""
    rate = session.rate
    for mic in session.mics:
        piece = next((p for p in session.preset.kit.pieces if mic in close_mics([mic], p)), None)
        if piece is None or piece_family(piece) not in ("kick", "snare", "tom"):
            continue
        proposal = propose_gate(session.mics[mic], rate, piece, hits)
        pool["gate doubtful"].append(proposal.doubtful)
        timing = Timing(
            ms_to_samples(0.5, rate),
            ms_to_samples(proposal.hold_ms, rate),
            ms_to_samples(proposal.release_ms, rate),
            ms_to_samples(1, rate),
        )
        own = [h for h in hits if h.piece == piece]
        bleed = np.sum([s for p, s in session.stems[mic].items() if p != piece], axis=0)
        true = [
            Hit("", h["piece"], h["time_s"], h["velocity"], h["kind"], 1.0, 0.0)
            for h in session.truth["hits"]
        ]
        openings = gating.openings_of(own, unlisted.get(piece, ()), rate, len(bleed))
        shape = envelope(openings.tolist(), proposal.range_db, timing)
        report = report_gate(bleed.astype(np.float32), rate, piece, true, openings, shape)
        pool["gate hits"].append(
            (report.hits - report.ghosts, report.missed - (report.ghosts - report.ghosts_kept))
        )
        pool["gate ghosts"].append((report.ghosts, report.ghosts - report.ghosts_kept))
        pool["gate false"].append((len(openings), report.false_open))
        pool["gate bleed"].append(report.bleed_reduction_db)


def _pool_tempo(session: Session, hits: list[Hit], pool: dict[str, list[Any]]) -> None:
    bpm = first_grid(hits, 4, 4).bpm
    pool["tempo"].append(abs(bpm / session.truth["tempo_bpm"] - 1) * 100)


def _f_measure(rows: list[tuple[int, int, int]]) -> float:
    good, true, found = (sum(r[i] for r in rows) for i in range(3))
    return 2 * good / max(true + found, 1)


def _print_table(pool: dict[str, list[Any]]) -> None:
    rows: list[tuple[str, str, str, bool | None]] = []
    bars = {
        "kick": 0.99,
        "snare": 0.99,
        "tom": 0.98,
        "ghosts": 0.95,
        "crash (no mic of its own)": 0.8,
        "ride (no mic of its own)": 0.8,
    }
    for name in sorted(k for k in pool if k.startswith("hits ")):
        group = name[5:]
        f = _f_measure(pool[name])
        bar = bars.get(group)
        rows.append(
            (
                f"hits, {group}: F within 5 ms",
                f"{f:.3f}",
                f"≥ {bar}" if bar else "–",
                f >= bar if bar else None,
            )
        )
        worst = min(pool[name], key=lambda row: _f_measure([row]))
        rows.append(("… worst recording", f"{_f_measure([worst]):.3f} of {worst[1]}", "–", None))
    time = np.array(pool["time"])
    for what, value, bar in (
        ("median", np.median(time), 0.3),
        ("95th percentile", np.percentile(time, 95), 1.5),
    ):
        rows.append(
            (f"time of a hit, {what}", f"{value:.2f} ms", f"≤ {bar} ms", bool(value <= bar))
        )
    owner = float(np.mean(pool["owner"]))
    rows.append(("owner right", f"{owner:.4f}", "≥ 0.99", owner >= 0.99))
    for kind in ("piece", "overhead"):
        errors = np.array([e for e, sure in pool[f"delay {kind}"] if sure])
        share = float(np.mean(errors <= 5)) if len(errors) else 1.0
        rows.append(
            (
                f"delay, sure pairs on one {kind}: within 5 samples",
                f"{share:.3f} of {len(errors)}",
                "1.0",
                share == 1.0,
            )
        )
        rows.append((f"delay, {kind}: median error", f"{np.median(errors):.2f} samples", "–", None))
    wrong = sum(not r for r in pool["polarity sure"])
    rows.append(
        ("polarity wrong where sure", f"{wrong} of {len(pool['polarity sure'])}", "0", wrong == 0)
    )
    sure = float(np.mean(pool["sure share"]))
    rows.append(("called sure, eight or more hits", f"{sure:.3f}", "≥ 0.9", sure >= 0.9))
    for what, bar in (("hits", 0.0), ("ghosts", 0.02), ("false", 0.01)):
        total, bad = (sum(r[i] for r in pool[f"gate {what}"]) for i in range(2))
        share = bad / max(total, 1)
        rows.append(
            (
                f"gate on hits, {what} {'openings' if what == 'false' else 'missed'}",
                f"{bad} of {total}",
                f"≤ {bar:.0%}",
                share <= bar,
            )
        )
    rows.append(gating.cut_row(pool["gates"], ""))
    least = float(np.min(pool["gate bleed"]))
    rows.append(
        ("gate, bleed between hits down by at least", f"{least:.1f} dB", "≥ 20 dB", least >= 20)
    )
    doubtful = float(np.mean(pool["gate doubtful"]))
    rows.append(("gate called doubtful", f"{doubtful:.3f}", "≤ 0.15", doubtful <= 0.15))
    tempo = float(np.max(pool["tempo"]))
    rows.append(("tempo, largest error", f"{tempo:.3f} %", "≤ 0.2 %", tempo <= 0.2))
    rows += timing.rows(pool)
    if pool["mics"]:
        rows += judging.rows(pool)
    print("| what | measured | bar | met |\n|---|---|---|---|")
    for what, measured, wanted, met in rows:
        print(
            f"| {what} | {measured} | {wanted} | {'–' if met is None else 'yes' if met else '**no**'} |"
        )


if __name__ == "__main__":
    main()
