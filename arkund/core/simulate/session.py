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
from arkund.core.simulate import plants
from arkund.core.simulate.drummer import ChartSection, PlayedHit, perform
from arkund.core.simulate.kit import play
from arkund.core.simulate.preset import Preset, TakePlan, vary
from arkund.core.simulate.presets import PRESETS
from arkund.core.simulate.room import Microphone, block_spectra, record
from arkund.core.simulate.truth import truth_of

Progress = Callable[[float, str], None]


@dataclass(frozen=True)
class Session:
    """One take in memory: ``mics`` ``{mic: (frames,)}``, ``stems`` ``{mic: {piece: …}}`` at the
    same gain without noise and other plants, and the ``truth`` that truth.json holds."""

    preset: Preset
    rate: int
    mics: dict[str, NDArray[np.float32]]
    stems: dict[str, dict[str, NDArray[np.float32]]]
    truth: dict[str, Any]
    take: int = 1


def simulate(
    preset_name: str,
    seed: int,
    *,
    take: int = 1,
    bars: int | None = None,
    keep_stems: bool = False,
    progress: Progress = lambda share, what: None,
) -> Session:
    """One take of a preset's recording; the same seed and take give the same samples.

    All takes of a seed share kit, mics and room. ``bars`` keeps only the first bars of the chart.
    Raises `ArkundError` on an unknown preset or a take that it does not have.
    """
    if preset_name not in PRESETS:
        known = ", ".join(PRESETS)
        raise ArkundError(f"There is no preset “{preset_name}”. Presets are: {known}.")
    preset = vary(PRESETS[preset_name](), np.random.default_rng(seed))
    plan = next((t for t in preset.takes if t.number == take), None)
    if plan is None:
        raise ArkundError(f"{preset_name} has {len(preset.takes)} takes; there is no take {take}.")
    chart = charted(preset.chart, plan)
    rng = np.random.default_rng([seed, take])
    bar_s = 4 * 60.0 / preset.bpm
    hits = perform(chart, preset.bpm, preset.feel, preset.lead_in_s, rng)
    bars = bars or sum(section.bars for section in chart)
    hits = [s for s in hits if s.time_s < preset.lead_in_s + bars * bar_s - 0.05]
    frames = round((preset.lead_in_s + bars * bar_s + 2.5) * preset.rate)
    score = plants.plant_hits(hits, preset, plan, bar_s, rng)

    progress(0.05, "playing the drums")
    # The kit and the room's tails are the same in every take.
    kit_rng = np.random.default_rng([seed, 0])
    parts = play(preset.kit, score.hits, frames, preset.rate, kit_rng)
    progress(0.3, "recording")
    spectra = block_spectra(parts, preset.room, frames, preset.rate)
    mics: dict[str, NDArray[np.float32]] = {}
    stems: dict[str, dict[str, NDArray[np.float32]]] = {}

    def put_mic(mic: Microphone, own_rng: np.random.Generator) -> None:
        heard = record(parts, mic, preset.room, spectra, frames, preset.rate, own_rng)
        total = np.zeros(frames)
        for sound in heard.values():
            total += sound
        gain = 10 ** (mic.peak_dbfs / 20) / _typical_peak(total, mic, score.hits, preset.rate)
        if mic.name in preset.plants.clipped:
            gain = plants.overload_gain(total)
        total = plants.plant_on_mic(total * gain, mic.name, preset, take, seed)
        mics[mic.name] = np.clip(total, -1.0, 1.0).astype(np.float32)
        if keep_stems:
            stems[mic.name] = {p: (s * gain).astype(np.float32) for p, s in heard.items()}
        progress(0.3 + 0.65 * len(mics) / len(preset.mics), "recording")

    with ThreadPoolExecutor(2) as pool:
        list(pool.map(put_mic, preset.mics, kit_rng.spawn(len(preset.mics))))
    mics = {mic.name: mics[mic.name] for mic in preset.mics}
    truth = truth_of(preset_name, seed, preset, bars, score, parts, mics, frames, take)
    progress(1.0, "done")
    return Session(preset, preset.rate, mics, stems, truth, take)


def takes_of(preset_name: str) -> list[int]:
    """Numbers of a preset's takes."""
    return [plan.number for plan in PRESETS[preset_name]().takes]


def charted(chart: tuple[ChartSection, ...], plan: TakePlan) -> tuple[ChartSection, ...]:
    """The chart as a take plays it: with another cymbal ridden in one section, if planned."""
    if plan.rides is None:
        return chart
    at, old, new = plan.rides
    section = chart[at]
    pattern = {p: s for p, s in section.pattern.items() if p != old}
    pattern[new] = section.pattern[old].replace("o", "x")
    return (*chart[:at], replace(section, pattern=pattern), *chart[at + 1 :])


def _typical_peak(
    sound: NDArray[np.float64], mic: Microphone, hits: list[PlayedHit], rate: int
) -> float:
    """Peak that sets a mic's gain: the 95th percentile of its own piece's hits, or the loudest
    moment where a mic is close to none."""
    piece = next(
        (p for p in {s.piece for s in hits} if mic.name in close_mics([mic.name], p)), None
    )
    own = [s for s in hits if s.piece == piece]
    if not own:
        return float(np.abs(sound).max()) or 1.0
    window = round(0.03 * rate)
    peaks = [np.abs(sound[(at := round(s.time_s * rate)) : at + window]).max() for s in own]
    return float(np.percentile(peaks, 95)) or 1.0


def write_session(session: Session, folder: Path, *, in_takes: bool = False) -> None:
    """Write the mics as 24-bit WAV, the stems if kept, and truth.json last of all.

    ``in_takes`` puts the sound into ``take N`` and adds the take to a truth.json already there.
    """
    target = folder / f"take {session.take}" if in_takes else folder
    target.mkdir(parents=True, exist_ok=True)
    for mic, sound in session.mics.items():
        sf.write(str(target / session.preset.files[mic]), sound, session.rate, subtype="PCM_24")
    for mic, by_piece in session.stems.items():
        for piece, sound in by_piece.items():
            stem = target / "stems" / mic / f"{piece}.wav"
            stem.parent.mkdir(parents=True, exist_ok=True)
            sf.write(str(stem), sound, session.rate, subtype="FLOAT")
    path = folder / "truth.json"
    truth = session.truth
    if in_takes and path.exists():
        truth = json.loads(path.read_text())
        truth["takes"] += session.truth["takes"]
        truth["faults"] += [f for f in session.truth["faults"] if f not in truth["faults"]]
    path.write_text(json.dumps(truth, indent=1) + "\n")


def write_recording(
    preset_name: str,
    seed: int,
    folder: Path,
    *,
    takes: int | None = None,
    bars: int | None = None,
    keep_stems: bool = False,
    progress: Progress = lambda share, what: None,
) -> Session:
    """Simulate and write a preset's takes (or the first ``takes`` of them), one after another;
    returns the last one."""
    numbers = takes_of(preset_name)[:takes] if preset_name in PRESETS else [1]
    for done, take in enumerate(numbers):
        session = simulate(
            preset_name,
            seed,
            take=take,
            bars=bars,
            keep_stems=keep_stems,
            progress=_part_of(progress, done, len(numbers)),
        )
        write_session(session, folder, in_takes=len(numbers) > 1)
    progress(1.0, "done")
    return session


def _part_of(progress: Progress, done: int, count: int) -> Progress:
    return lambda share, what: progress((done + share * 0.99) / count, what)
