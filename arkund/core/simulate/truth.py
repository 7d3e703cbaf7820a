"""The ground truth of a simulated take: arrivals, pairs, and the faults that were planted."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.kit.roles import close_mics, is_shell, parse_mic_name
from arkund.core.measure.levels import clipped_runs
from arkund.core.simulate.kit import Part
from arkund.core.simulate.plants import Score
from arkund.core.simulate.preset import Preset
from arkund.core.simulate.room import Microphone, arrival_samples, direct_gain


def truth_of(
    name: str,
    seed: int,
    preset: Preset,
    bars: int,
    score: Score,
    parts: list[Part],
    sounds: dict[str, NDArray[np.float32]],
    frames: int,
    take: int,
) -> dict[str, Any]:
    """What truth.json says of one take; see docs/formats.md."""
    strokes = score.strokes
    rate = preset.rate
    by_piece = {
        p: [part for part in parts if part.piece == p and not part.answers]
        for p in preset.kit.pieces
    }
    mics = {m.name: m for m in preset.mics}

    def arrival(piece: str, mic: str) -> float:
        return min(arrival_samples(part, mics[mic], rate) for part in by_piece[piece])

    def first_part(piece: str, mic: str) -> Part:
        return min(by_piece[piece], key=lambda part: arrival_samples(part, mics[mic], rate))

    nearest = {
        p: (close_mics(mics, p) or [min(mics, key=lambda m: arrival(p, m))])[0] for p in by_piece
    }
    nearest = {
        p: min(close_mics(mics, p) or [nearest[p]], key=lambda m: arrival(p, m)) for p in by_piece
    }
    hits: list[dict[str, Any]] = [
        {
            "piece": s.piece,
            "time_s": round(s.time_s + arrival(s.piece, nearest[s.piece]) / rate, 7),
            "velocity": s.velocity,
            "kind": "plain" if s.kind == "open" else s.kind,
        }
        for s in strokes
    ]
    pairs = []
    overheads = [m for m in mics if m.startswith("overhead")]
    for piece in by_piece:
        close = close_mics(mics, piece)
        wanted = [(m, close[0]) for m in close[1:]] + [(c, o) for c in close for o in overheads]
        if is_shell(piece) and close:
            wanted += [(m, close[0]) for m in mics if parse_mic_name(m).role == "room"]
        for mic, reference in wanted:
            sign = direct_gain(first_part(piece, mic), mics[mic]) * direct_gain(
                first_part(piece, reference), mics[reference]
            )
            pairs.append(
                {
                    "piece": piece,
                    "mic": mic,
                    "reference": reference,
                    "delay_samples": round(arrival(piece, mic) - arrival(piece, reference), 3),
                    "polarity": 1 if sign > 0 else -1,
                }
            )
    listed = sorted(hits, key=lambda h: float(h["time_s"]))
    sections: list[dict[str, Any]] = []
    bar = 1
    for section in preset.chart:
        if bar <= bars:
            sections.append(
                {"name": section.name, "start_bar": bar, "bars": min(section.bars, bars - bar + 1)}
            )
        bar += section.bars
    return {
        "preset": name,
        "seed": seed,
        "title": preset.title,
        "tempo_bpm": preset.bpm,
        "meter": "4/4",
        "rate": rate,
        "frames": frames,
        "first_downbeat_s": preset.lead_in_s,
        "bars": bars,
        "sections": sections,
        "mics": [{"mic": m, "file": preset.files[m]} for m in mics],
        "hits": listed,
        "pairs": pairs,
        "takes": [{"take": take, "hits": listed}],
        "faults": _faults(preset, mics, by_piece, score, sounds, sections, listed, rate, take),
    }


def _faults(
    preset: Preset,
    mics: dict[str, Microphone],
    by_piece: dict[str, list[Part]],
    score: Score,
    sounds: dict[str, NDArray[np.float32]],
    sections: list[dict[str, Any]],
    listed: list[dict[str, Any]],
    rate: int,
    take: int,
) -> list[dict[str, Any]]:
    """Every planted fault with the finding that it requires: its kind and its subject."""
    out: list[dict[str, Any]] = []

    def add(fault: str, finding: str, subject: str, **more: Any) -> None:
        out.append({"fault": fault, "finding": finding, "subject": subject, **more})

    if "snare_bottom" in mics:
        add("inverted", "align.polarity", "snare_bottom")
    for mic in mics.values():
        if mic.inverted:
            add("inverted", "align.polarity", mic.name)
        peak = float(np.abs(sounds[mic.name]).max())
        is_wild = score.wild is not None and mic.name in close_mics(mics, score.wild.piece)
        if peak > 10 ** (-3 / 20) and not is_wild:
            add("hot", "level.headroom", mic.name)
        runs = clipped_runs(np.abs(sounds[mic.name]), rate)
        if runs and mic.name in preset.plants.clipped:
            add("clipped", "load-in.clipped", mic.name, runs=len(runs), take=take)
    for mic_name, (hz, level) in (preset.plants.hum or {}).items():
        add("hum", "load-in.hum", mic_name, hz=hz, dbfs=level)
    for mic_name, offset in (preset.plants.dc or {}).items():
        add("dc", "load-in.dc", mic_name, offset=offset)
    if {"kick_in", "kick_out"} <= set(mics):
        late = arrival_samples(by_piece["kick"][0], mics["kick_out"], rate) - arrival_samples(
            by_piece["kick"][0], mics["kick_in"], rate
        )
        add("early", "align.delay", "kick_in", against="kick_out", samples=round(late, 2))
    for drum in preset.kit.drums:
        for hz, seconds, _ in drum.rings:
            add("ring", "eq.ring", drum.piece, hz=round(hz, 1), t60_s=seconds)
        if drum.sings is not None:
            add(
                "sings",
                "clean.sympathy",
                drum.piece,
                by=drum.sings.by,
                hz=round(drum.fundamental_hz, 1),
                t60_s=drum.sings.t60_s,
            )
    if score.wild is not None:
        add(
            "wild",
            "level.wild",
            score.wild.piece,
            take=take,
            over_db=score.wild.gain_db,
            time_s=round(score.wild.time_s, 4),
        )
    bar_s = 240 / preset.bpm
    for bar, ms in sorted(_apart(listed, preset, bar_s).items()):
        planted = any(bar == b for b, _ in score.apart)
        add("apart", "edit.apart", f"bar {bar}", take=take, ms=ms, planted=planted)
    if score.dropped is not None:
        bar = int((score.dropped.time_s + 0.02 - preset.lead_in_s) / bar_s) + 1
        add("dropped", "edit.dropped", f"take {take}", bar=bar, piece=score.dropped.piece)
    plan = next(t for t in preset.takes if t.number == take)
    if plan.rides and plan.rides[0] < len(sections):
        add(
            "rides",
            "edit.cymbal",
            f"take {take}",
            section=sections[plan.rides[0]]["name"],
            start_bar=sections[plan.rides[0]]["start_bar"],
            cymbal=plan.rides[2],
        )
    return out


def _apart(listed: list[dict[str, Any]], preset: Preset, bar_s: float) -> dict[int, float]:
    """Bars in which kick and snare within 30 ms are heard 8 ms or more apart, planted or played:
    how much later the kick comes, in ms."""
    own = [h for h in listed if h["kind"] != "ghost"]
    kicks = np.array([h["time_s"] for h in own if h["piece"] == "kick"])
    out: dict[int, float] = {}
    for h in own:
        if h["piece"] != "snare" or len(kicks) == 0:
            continue
        gap = float((kicks - h["time_s"])[np.argmin(np.abs(kicks - h["time_s"]))])
        bar = int((h["time_s"] + 0.03 - preset.lead_in_s) / bar_s) + 1
        if 0.008 <= abs(gap) <= 0.03 and abs(gap * 1000) > abs(out.get(bar, 0.0)):
            out[bar] = round(gap * 1000, 2)
    return out
