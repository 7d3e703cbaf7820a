"""Ladders: one value at several steps, equally loud, to choose among by ear, seen or blind."""

import json
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.advise.rungs import rungs_of
from arkund.core.errors import ArkundError, SheetError
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.process.stage import Stage
from arkund.core.process.values import Part
from arkund.core.render.engine import Engine
from arkund.core.sheet.differences import part_at
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.settable import refuse_internal
from arkund.core.sheet.sheet import Sheet
from arkund.songs import rendering, revisions, stages
from arkund.songs.models import Revision, Song
from arkund.songs.wording import path_words, value_words

FEWEST, MOST = 2, 5
SILENT_LUFS = -120.0

BEHIND = ("fader_db", "pan", "mute", "to", "sends")
"""Values of a channel that only the mix hears."""


class Step(NamedTuple):
    """One rung before it is heard: the ``patch`` that sets it, the value that it is about, and what that stands
    on."""

    patch: dict[str, Any]
    value: Any
    why: str = ""


class Rung(NamedTuple):
    """One rung: its step, its sound ``(frames, sides)`` as loud as the others', how loud it was, and the gain
    in dB that made it so."""

    step: Step
    sound: NDArray[np.float32]
    was_lufs: float
    gain_db: float


def given(path: str, values: Sequence[Any]) -> list[Step]:
    """A step for each of some values of a path."""
    return [Step({path: value}, value) for value in values]


def offered(sheet: Sheet, path: str, start: int, stop: int) -> list[Step]:
    """Steps of a path's value that stand on the drum's hits between two samples, or around what it is now
    (`core/advise/rungs.py`). Raises `ArkundError` where the value is none to choose among."""
    refuse_internal([path])
    holder, _, name = path.rpartition(".")
    part = part_at(sheet, holder.split("."))
    if not isinstance(part, Part):
        raise SheetError(f"The sheet has no “{path[:80]}”.")
    sound, times = np.zeros(0, np.float32), list[float]()
    if isinstance(part, Stage):
        _, sound, times, _ = stages.fed(sheet, holder, start, stop)
    found = rungs_of(part, name, sound, sheet.rate, times)
    return [
        Step({f"{holder}.{n}": v for n, v in rung.values.items()}, rung.values[name], rung.why)
        for rung in found
    ]


def rungs_heard(
    sheet: Sheet,
    steps: Sequence[Step],
    node: str,
    start: int,
    stop: int,
    engine_of: Callable[[Sheet], Engine] = rendering.exact_engine,
    progress: Callable[[float, str], None] = lambda share, what: None,
) -> list[Rung]:
    """The sound of a node between two samples with each step taken. All are brought down to the softest, so that
    none is louder than it came out.

    Raises `ArkundError` where there are too few or too many steps, where one may not be set, or where a
    rung is silent.
    """
    if not FEWEST <= len(steps) <= MOST:
        raise ArkundError(f"A ladder takes {FEWEST} to {MOST} values.")
    sounds = []
    for n, step in enumerate(steps):
        progress(n / len(steps), f"rendering rung {n + 1} of {len(steps)}")
        refuse_internal(step.patch)
        there = apply_patch(sheet, step.patch)
        engine = engine_of(there)
        sounds.append(rendering.render_span(there, node, "now", start, stop, "", engine))
    loud = [loudness_lufs(sound, sheet.rate) for sound in sounds]
    if min(loud) <= SILENT_LUFS:
        value = steps[int(np.argmin(loud))].value
        raise ArkundError(f"With {value} nothing is heard in these bars; name others.")
    gains = [min(loud) - one for one in loud]
    return [
        Rung(step, sound * np.float32(10 ** (gain / 20)), round(one, 2), round(gain, 2))
        for step, sound, one, gain in zip(steps, sounds, loud, gains, strict=True)
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
                "value": rung.step.value,
                "words": value_words(rung.step.value, unit),
                "why": rung.step.why,
                "was_lufs": rung.was_lufs,
                "gain_db": rung.gain_db,
            }
        )
    said = {"path": path, "what": f"{whose}: {what}", "blind": seed is not None, "rungs": key}
    part = folder / "key.json.part"
    part.write_text(json.dumps(said, indent=2, ensure_ascii=False))
    part.replace(folder / "key.json")
    return said


def shown(sheet: Sheet, path: str, start: int, stop: int, node: str) -> dict[str, Any]:
    """A path's ladder for the page: what it is about, and of each rung its patch, words and gain in dB."""
    whose, what, unit = path_words(path, sheet)
    steps = offered(sheet, path, start, stop)
    rungs = rungs_heard(sheet, steps, node or channel_of(path), start, stop, rendering.engine_for)
    return {
        "path": path,
        "what": f"{whose}: {what}",
        "rungs": [
            {
                "patch": one.step.patch,
                "words": value_words(one.step.value, unit),
                "why": one.step.why,
                "gain_db": one.gain_db,
            }
            for one in rungs
        ],
    }


class Choice(NamedTuple):
    """What was chosen on a ladder: the ``patch`` to keep, all rungs' words, which of them was chosen in each of
    the ``rounds``, and whether it was blind."""

    patch: Patch
    over: Sequence[str]
    rounds: Sequence[int]
    blind: bool


def keep_choice(song: Song, base: int, choice: Choice, station: str) -> Revision:
    """Keep what was chosen as a revision that says over what, and how often. Raises `ArkundError`."""
    return revisions.keep(song.pk, base, choice.patch, reason=reason_of(choice), station=station)


def reason_of(choice: Choice) -> str:
    """Why a rung was kept, in a sentence. Raises `ArkundError` where no such ladder can have been."""
    if not choice.rounds or not all(0 <= n < len(choice.over) <= MOST for n in choice.rounds):
        raise ArkundError("A choice names one of the ladder's values; open the ladder again.")
    kept = choice.rounds[-1]
    others = ", ".join(words for n, words in enumerate(choice.over) if n != kept)
    times = Counter(choice.rounds)[kept]
    how = "without seeing the values" if choice.blind else "by ear"
    again = f", {times} times out of {len(choice.rounds)}" if len(choice.rounds) > 1 else ""
    return f"{choice.over[kept]} chosen {how} over {others}, equally loud{again}."
