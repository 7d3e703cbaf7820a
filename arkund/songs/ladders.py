"""Ladders: one value at several steps, equally loud, to choose among by ear, seen or blind."""

import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.settable import refuse_internal
from arkund.core.sheet.sheet import Sheet
from arkund.songs import rendering
from arkund.songs.wording import path_words, value_words

FEWEST, MOST = 2, 5
SILENT_LUFS = -120.0

BEHIND = ("fader_db", "pan", "mute", "to", "sends")
"""Values of a channel that only the mix hears."""

BEHIND = ("fader_db", "pan", "mute", "to", "sends")
"""Values of a channel that only the mix hears."""


class Rung(NamedTuple):
    """One step: its value, its sound ``(frames, sides)`` as loud as the others', how loud it was, and the gain
    in dB that made it so."""

    value: Any
    sound: NDArray[np.float32]
    was_lufs: float
    gain_db: float


def rungs_of(
    sheet: Sheet,
    path: str,
    values: Sequence[Any],
    start: int,
    stop: int,
    node: str = "",
    progress: Callable[[float, str], None] = lambda share, what: None,
) -> list[Rung]:
    """The sound of a node (that of the path's channel by default) between two samples with each value in its
    place. All are brought down to the softest, so that none is louder than it came out.

    Raises `ArkundError` where there are too few or too many values, where the path may not be set, or where a
    rung is silent.
    """
    if not FEWEST <= len(values) <= MOST:
        raise ArkundError(f"A ladder takes {FEWEST} to {MOST} values.")
    refuse_internal([path])
    name = node or channel_of(path)
    sounds = []
    for n, value in enumerate(values):
        progress(n / len(values), f"rendering rung {n + 1} of {len(values)}")
        there = apply_patch(sheet, {path: value})
        engine = rendering.exact_engine(there)
        sounds.append(rendering.render_span(there, name, "now", start, stop, "", engine))
    loud = [loudness_lufs(sound, sheet.rate) for sound in sounds]
    if min(loud) <= SILENT_LUFS:
        value = values[int(np.argmin(loud))]
        raise ArkundError(f"With {value} nothing is heard in these bars; name others.")
    gains = [min(loud) - one for one in loud]
    return [
        Rung(value, sound * np.float32(10 ** (gain / 20)), round(one, 2), round(gain, 2))
        for value, sound, one, gain in zip(values, sounds, loud, gains, strict=True)
    ]


def channel_of(path: str) -> str:
    """The node that a path's channel sounds at; the whole mix where it is no channel's, or where it is set
    behind what is heard of a channel alone (`BEHIND`)."""
    steps = path.split(".")
    if len(steps) > 2 and steps[2] in BEHIND:
        return "output"
    if steps[0] in ("mics", "groups", "buses", "layers") and len(steps) > 1:
        return steps[1]
    return "output"


def write_ladder(
    folder: Path, sheet: Sheet, path: str, rungs: Sequence[Rung], seed: int | None = None
) -> dict[str, Any]:
    """Write rungs as 32-bit float WAV and their key as JSON; with a ``seed`` in an order that only the key
    tells. Returns what the key says."""
    whose, what, unit = path_words(path, sheet)
    order = list(range(len(rungs)))
    if seed is not None:
        np.random.default_rng(seed).shuffle(order)
    folder.mkdir(parents=True, exist_ok=True)
    key = []
    for number, n in enumerate(order, start=1):
        rung, name = rungs[n], f"rung_{number}.wav"
        part = folder / f"{name}.part"
        sf.write(str(part), rung.sound, sheet.rate, subtype="FLOAT", format="WAV")
        part.replace(folder / name)
        key.append(
            {
                "file": name,
                "value": rung.value,
                "words": value_words(rung.value, unit),
                "was_lufs": rung.was_lufs,
                "gain_db": rung.gain_db,
            }
        )
    said = {"path": path, "what": f"{whose}: {what}", "blind": seed is not None, "rungs": key}
    part = folder / "key.json.part"
    part.write_text(json.dumps(said, indent=2, ensure_ascii=False))
    part.replace(folder / "key.json")
    return said
