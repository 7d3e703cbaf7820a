"""A line a mic that says what matters, and where each measured thing lies in the song."""

from collections.abc import Mapping
from typing import Any

from arkund.core.sheet.sheet import Sheet
from arkund.core.timing.grid import Grid
from arkund.core.units import SILENCE_DB

FAR_S = 0.05


def health(measures: Mapping[str, Any], unused: str = "") -> str:
    """One sentence on a mic: the worst first, nothing where nothing is wrong."""
    if unused:
        return f"Left out: {unused.rstrip('.')}."
    flags = measures.get("flags", [])
    if "silent" in flags:
        return "Holds digital silence: put the right file in its place, or mute it."
    if "near silence" in flags:
        return f"Never louder than {_db(measures['peak_dbfs'])}: hardly a signal."
    said = []
    if "clipped" in flags:
        runs = measures["clipped_runs"]
        longest = max(n for _, n in runs)
        said.append(f"{_count(len(runs), 'clipped run')}, the longest {_count(longest, 'sample')}")
    if "hum" in flags:
        said.append(f"hum of {measures['hum_hz']:.0f} Hz at {_db(measures['hum_dbfs'])}")
    if "wild" in flags:
        over = measures["loudest_hit_dbfs"] - measures["typical_hit_dbfs"]
        said.append(f"one hit {over:.1f} dB over the typical one")
    if "dc" in flags:
        said.append(f"a standing offset of {measures['dc'] * 100:.2f} %".replace("-", "−"))
    if "hot" in flags and "clipped" not in flags:
        said.append(f"recorded hot, {_db(measures['peak_dbfs'])} at its peak")
    if "ends_early_s" in measures:
        said.append(f"ends {measures['ends_early_s']:.2f} s before the others")
    if "resampled_from_hz" in measures:
        said.append(f"resampled from {measures['resampled_from_hz']} Hz")
    if not said:
        floor = measures.get("noise_floor_dbfs", SILENCE_DB)
        room = measures.get("typical_hit_dbfs", 0.0) - floor
        return f"Sound: hits {room:.0f} dB over the noise." if floor > SILENCE_DB else "Sound."
    text = "; ".join(said)
    return f"{text[0].upper()}{text[1:]}."


def places(measures: Mapping[str, Any], sheet: Sheet, grid: Grid) -> list[dict[str, Any]]:
    """What can be gone to: words, seconds and bar of the peak and of clipped runs, the first few."""
    offset = sheet.take.offset / sheet.rate
    found = [("peak", measures.get("peak_at_s", 0.0))]
    for start, _ in measures.get("clipped_runs", []):
        if all(abs(start - s) > FAR_S for w, s in found if w == "clipped"):
            found.append(("clipped", start))
    out = []
    for words, seconds in found[:4]:
        at = max(seconds - offset, 0.0)
        bar = min(max(1, int(grid.bar_at(at))), grid.bars_in(sheet.frames / sheet.rate))
        out.append({"words": words, "at": round(at, 4), "bar": bar})
    return out


def _db(value: float) -> str:
    return f"{value:.1f} dBFS".replace("-", "−")


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"
