"""A whole simulated recording: files as a recorder would leave them, and the truth about them."""

import json
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.kit.roles import close_mics
from arkund.core.simulate.drummer import Stroke, perform
from arkund.core.simulate.kit import Part, play
from arkund.core.simulate.presets import PRESETS, Preset, vary
from arkund.core.simulate.room import (
    Microphone,
    arrival_samples,
    block_spectra,
    direct_gain,
    record,
)

Progress = Callable[[float, str], None]


@dataclass(frozen=True)
class Session:
    """A recording in memory: ``mics`` ``{mic: (frames,)}``, ``stems`` ``{mic: {piece: …}}`` at
    the same gain without noise, and the ``truth`` that truth.json holds."""

    preset: Preset
    rate: int
    mics: dict[str, NDArray[np.float32]]
    stems: dict[str, dict[str, NDArray[np.float32]]]
    truth: dict[str, Any]


def simulate(
    preset_name: str,
    seed: int,
    *,
    bars: int | None = None,
    keep_stems: bool = False,
    progress: Progress = lambda share, what: None,
) -> Session:
    """The recording of a preset; the same seed gives the same samples.

    ``bars`` keeps only the first bars of the chart. Raises `ArkundError` on an unknown preset.
    """
    if preset_name not in PRESETS:
        known = ", ".join(PRESETS)
        raise ArkundError(f"There is no preset “{preset_name}”. Presets are: {known}.")
    rng = np.random.default_rng(seed)
    preset = vary(PRESETS[preset_name](), rng)
    bar_s = 4 * 60.0 / preset.bpm
    strokes = perform(preset.chart, preset.bpm, preset.feel, preset.lead_in_s, rng)
    bars = bars or sum(section.bars for section in preset.chart)
    strokes = [s for s in strokes if s.time_s < preset.lead_in_s + bars * bar_s - 0.05]
    strokes, wild = _plant_wild_stroke(strokes, preset.wild_tom)
    frames = round((preset.lead_in_s + bars * bar_s + 2.5) * preset.rate)

    progress(0.05, "striking")
    parts = play(preset.kit, strokes, frames, preset.rate, rng)
    progress(0.3, "recording")
    spectra = block_spectra(parts, preset.room, frames, preset.rate)
    mics: dict[str, NDArray[np.float32]] = {}
    stems: dict[str, dict[str, NDArray[np.float32]]] = {}

    def put_mic(mic: Microphone, own_rng: np.random.Generator) -> None:
        heard = record(parts, mic, preset.room, spectra, frames, preset.rate, own_rng)
        total = np.zeros(frames)
        for sound in heard.values():
            total += sound
        gain = 10 ** (mic.peak_dbfs / 20) / _typical_peak(total, mic, strokes, preset.rate)
        noise = own_rng.standard_normal(frames, np.float32) * np.float32(10 ** (-80 / 20))
        mics[mic.name] = np.clip(total * gain + noise, -1.0, 1.0).astype(np.float32)
        if keep_stems:
            stems[mic.name] = {p: (s * gain).astype(np.float32) for p, s in heard.items()}
        progress(0.3 + 0.65 * len(mics) / len(preset.mics), "recording")

    with ThreadPoolExecutor(2) as pool:
        list(pool.map(put_mic, preset.mics, rng.spawn(len(preset.mics))))
    mics = {mic.name: mics[mic.name] for mic in preset.mics}
    truth = _truth(preset_name, seed, preset, bars, strokes, parts, frames, wild)
    progress(1.0, "done")
    return Session(preset, preset.rate, mics, stems, truth)


def _plant_wild_stroke(
    strokes: list[Stroke], piece: str | None
) -> tuple[list[Stroke], Stroke | None]:
    own = [s for s in strokes if s.piece == piece]
    if len(own) < 2:
        return strokes, None
    chosen = max(own[:-1], key=lambda s: s.velocity)
    wild = replace(chosen, gain_db=8.0)
    return [wild if s is chosen else s for s in strokes], wild


def _typical_peak(
    sound: NDArray[np.float64], mic: Microphone, strokes: list[Stroke], rate: int
) -> float:
    """Peak that sets a mic's gain: the 95th percentile of its own piece's strokes, or the loudest
    moment where a mic is close to none."""
    piece = next((p for p in {s.piece for s in strokes} if mic.name in close_mics([mic.name], p)),
                 None)  # fmt: skip
    own = [s for s in strokes if s.piece == piece]
    if not own:
        return float(np.abs(sound).max()) or 1.0
    window = round(0.03 * rate)
    peaks = [np.abs(sound[(at := round(s.time_s * rate)) : at + window]).max() for s in own]
    return float(np.percentile(peaks, 95)) or 1.0


def _truth(
    name: str, seed: int, preset: Preset, bars: int, strokes: list[Stroke], parts: list[Part],
    frames: int, wild: Stroke | None,
) -> dict[str, Any]:  # fmt: skip
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
    nearest = {p: min(close_mics(mics, p) or [nearest[p]], key=lambda m: arrival(p, m))
               for p in by_piece}  # fmt: skip
    hits = [
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
    sections, bar = [], 1
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
        "hits": sorted(hits, key=lambda h: h["time_s"]),
        "pairs": pairs,
        "faults": _faults(preset, mics, by_piece, wild, rate),
    }


def _faults(
    preset: Preset, mics: dict[str, Microphone], by_piece: dict[str, list[Part]],
    wild: Stroke | None, rate: int,
) -> list[dict[str, Any]]:  # fmt: skip
    faults: list[dict[str, Any]] = []
    if "snare_bottom" in mics:
        faults.append({"fault": "inverted", "mic": "snare_bottom", "finding": "align.polarity"})
    for mic in mics.values():
        if mic.inverted:
            faults.append({"fault": "inverted", "mic": mic.name, "finding": "align.polarity"})
        if mic.name.startswith("overhead") and mic.peak_dbfs > -4:
            faults.append({"fault": "hot", "mic": mic.name, "finding": "level.headroom"})
    if {"kick_in", "kick_out"} <= set(mics):
        late = (arrival_samples(by_piece["kick"][0], mics["kick_out"], rate)
                - arrival_samples(by_piece["kick"][0], mics["kick_in"], rate))  # fmt: skip
        faults.append(
            {"fault": "early", "mic": "kick_in", "against": "kick_out",
             "samples": round(late, 2), "finding": "align.delay"}
        )  # fmt: skip
    for drum in preset.kit.drums:
        for hz, seconds, _ in drum.rings:
            faults.append(
                {"fault": "ring", "piece": drum.piece, "hz": round(hz, 1), "t60_s": seconds,
                 "finding": "shape.ring"}
            )  # fmt: skip
    if wild is not None:
        faults.append(
            {"fault": "wild", "piece": wild.piece, "time_s": round(wild.time_s, 4),
             "over_db": wild.gain_db, "finding": "level.wild"}
        )  # fmt: skip
    return faults


def write_session(session: Session, folder: Path) -> None:
    """Write the mics as 24-bit WAV, the stems if kept, and truth.json last of all."""
    folder.mkdir(parents=True, exist_ok=True)
    for mic, sound in session.mics.items():
        sf.write(str(folder / session.preset.files[mic]), sound, session.rate, subtype="PCM_24")
    for mic, by_piece in session.stems.items():
        for piece, sound in by_piece.items():
            target = folder / "stems" / mic / f"{piece}.wav"
            target.parent.mkdir(parents=True, exist_ok=True)
            sf.write(str(target), sound, session.rate, subtype="FLOAT")
    (folder / "truth.json").write_text(json.dumps(session.truth, indent=1) + "\n")
