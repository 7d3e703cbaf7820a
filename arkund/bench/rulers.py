"""The measured rulers of each station: which value, over which scale, in which unit.

A ruler is the control of the application: a horizontal scale with the measurement drawn in it.
What is drawn comes with the station's picture; here stands what does not depend on sound.
"""

from dataclasses import asdict, dataclass
from typing import Any

from arkund.core.mix.patches import read_path
from arkund.core.mix.sheet import OFF_DB, Sheet


@dataclass(frozen=True)
class Ruler:
    """``scale`` is ``lin`` or ``log``; ``step`` what an arrow key moves (a factor on ``log``);
    ``fallback`` what a double click returns to; ``ticks`` the values written under it."""

    path: str
    label: str
    unit: str
    low: float
    high: float
    step: float
    fallback: float
    ticks: tuple[float, ...]
    scale: str = "lin"
    hint: str = ""
    switch: str = ""

    def with_value(self, sheet: Sheet) -> dict[str, Any]:
        """The ruler as the template needs it."""
        on = bool(read_path(sheet, self.switch)) if self.switch else True
        value = read_path(sheet, self.path)
        return asdict(self) | {
            "value": value, "on": on, "ticks_text": " ".join(f"{t:g}" for t in self.ticks),
            "slug": self.path.replace(".", "-"),
        }  # fmt: skip


_DB = (-60.0, -48.0, -36.0, -24.0, -12.0, 0.0)
_HZ = (30.0, 100.0, 300.0, 1000.0, 3000.0, 10000.0)
_MS = (1.0, 10.0, 100.0, 1000.0)


def level_rulers(mic: str) -> list[Ruler]:
    m = f"mics.{mic}"
    return [
        Ruler(f"{m}.trim_db", "Trim", "dB", -24, 24, 0.5, 0, (-24, -12, 0, 12, 24),
              hint="bars: the trim that would bring each stroke to −8 dBFS"),
        Ruler(f"{m}.fader_db", "Fader", "dB", -60, 12, 0.5, 0, (-60, -40, -20, 0, 12),
              hint="level in the mix; sends stay as they are"),
        Ruler(f"{m}.pan", "Pan", "", -1, 1, 0.05, 0, (-1, -0.5, 0, 0.5, 1),
              hint="−1 left, 1 right; constant power, −3 dB at the centre"),
    ]  # fmt: skip


def align_rulers(mic: str) -> list[Ruler]:
    return [
        Ruler(f"mics.{mic}.delay_samples", "Delay", "samples", -400, 400, 1, 0,
              (-400, -200, 0, 200, 400), hint="positive is later; the mark closes the gap to the "
              "reference"),
    ]  # fmt: skip


def timing_rulers(rule: int) -> list[Ruler]:
    """Of one timing rule, by its place in the sheet."""
    t = f"timing.rules.{rule}"
    return [
        Ruler(f"{t}.strength", "Strength", "", 0, 1, 0.05, 1, (0, 0.25, 0.5, 0.75, 1),
              hint="how much of the way to its place each stroke goes"),
        Ruler(f"{t}.window_ms", "Left alone within", "ms", 0, 60, 1, 0, (0, 10, 20, 40, 60),
              hint="strokes this close to their place stay; bars: how far they are"),
        Ruler(f"{t}.swing", "Swing", "", 0.5, 0.75, 0.01, 0.5, (0.5, 0.58, 0.67, 0.75),
              hint="where every second line lies in its pair: 0.5 straight, 0.67 shuffled; bars: as played"),
    ]  # fmt: skip


def clean_rulers(mic: str) -> list[Ruler]:
    c = f"mics.{mic}.clean"
    return [
        Ruler(f"{c}.threshold_db", "Threshold", "dB", -60, 0, 0.5, -30, _DB,
              hint="grey: bleed · colour: this drum's strokes"),
        Ruler(f"{c}.hold_ms", "Hold", "ms", 5, 2000, 1.06, 80, (10, 30, 100, 300, 1000), "log",
              hint="line: how this drum rings"),
        Ruler(f"{c}.release_ms", "Release", "ms", 5, 2000, 1.06, 150, (10, 30, 100, 300, 1000),
              "log", hint="bars: gaps to this drum's next stroke"),
        Ruler(f"{c}.range_db", "Range", "dB", -80, 0, 1, -40, (-80, -60, -40, -20, 0),
              hint="shaded: −12 to −20 dB tucks the bleed and lets the kit breathe"),
        Ruler(f"{c}.attack_ms", "Attack", "ms", 0.1, 50, 1.1, 0.5, (0.1, 1, 10, 50), "log",
              hint="area: the average stroke's rise"),
    ]  # fmt: skip


def eq_rulers(mic: str, band: int) -> list[Ruler]:
    e = f"mics.{mic}.eq"
    b = f"{e}.bands.{band}"
    number = band + 1
    return [
        Ruler(f"{e}.high_pass.frequency_hz", "High-pass", "Hz", 20, 2000, 1.03, 60,
              (30, 100, 300, 1000), "log", "area: this drum · grey: bleed", f"{e}.high_pass.on"),
        Ruler(f"{b}.frequency_hz", f"Band {number}", "Hz", 20, 16000, 1.03, 1000, _HZ, "log",
              "area: this drum · grey: bleed", f"{b}.on"),
        Ruler(f"{b}.gain_db", f"Band {number} gain", "dB", -18, 18, 0.5, 0,
              (-18, -12, -6, 0, 6, 12, 18), hint="up or down by at most 18 dB"),
        Ruler(f"{b}.q", f"Band {number} width", "Q", 0.4, 16, 1.06, 1, (0.5, 1, 2, 4, 8, 16), "log",
              hint="broad to narrow"),
        Ruler(f"{e}.low_pass.frequency_hz", "Low-pass", "Hz", 500, 20000, 1.03, 14000,
              (1000, 3000, 10000, 20000), "log", "area: this drum · grey: bleed",
              f"{e}.low_pass.on"),
    ]  # fmt: skip


def dynamics_rulers(mic: str) -> list[Ruler]:
    t, c = f"mics.{mic}.transient", f"mics.{mic}.compressor"
    return [
        Ruler(f"{t}.attack_db", "Attack", "dB", -12, 12, 0.25, 0, (-12, -6, 0, 6, 12),
              hint="transient shaper: the first milliseconds"),
        Ruler(f"{t}.sustain_db", "Sustain", "dB", -24, 12, 0.5, 0, (-24, -12, 0, 12),
              hint="transient shaper: what rings after"),
        *squeeze_rulers(c),
    ]  # fmt: skip


def squeeze_rulers(path: str) -> list[Ruler]:
    """A compressor's rulers; ``path`` is the compressor's in the sheet."""
    on = f"{path}.on"
    return [
        Ruler(f"{path}.threshold_db", "Threshold", "dB", -60, 0, 0.5, -18, _DB,
              hint="peaks of the strokes as they reach the compressor", switch=on),
        Ruler(f"{path}.ratio", "Ratio", ": 1", 1, 20, 1.06, 4, (1, 2, 4, 8, 20), "log"),
        Ruler(f"{path}.attack_ms", "Comp attack", "ms", 0.05, 200, 1.08, 15, (0.1, 1, 10, 100),
              "log", hint="area: the average stroke's envelope"),
        Ruler(f"{path}.release_ms", "Comp release", "ms", 5, 2000, 1.06, 120, (10, 30, 100, 300, 1000),
              "log", hint="bars: gaps to the next stroke"),
        Ruler(f"{path}.makeup_db", "Makeup", "dB", -12, 24, 0.5, 0, (-12, 0, 12, 24)),
        Ruler(f"{path}.mix", "Mix", "", 0, 1, 0.02, 1, (0, 0.25, 0.5, 0.75, 1)),
    ]  # fmt: skip


def bus_rulers(bus: str, sends: list[str]) -> list[Ruler]:
    p = f"parallel.{bus}"
    squeeze = {r.path.rsplit(".", 1)[1]: r for r in squeeze_rulers(f"{p}.compressor")}
    return [
        Ruler(f"{p}.blend_db", "Blend", "dB", -60, 12, 0.5, OFF_DB, (-60, -40, -20, 0, 12),
              hint="the return under the rest; at the left end it is shut", switch=f"{p}.on"),
        squeeze["threshold_db"], squeeze["attack_ms"], squeeze["release_ms"],
        Ruler("drum_bus.compressor.threshold_db", "Glue threshold", "dB", -60, 0, 0.5, -18, _DB,
              hint="the drum bus's own compressor, 2:1", switch="drum_bus.compressor.on"),
        Ruler("drum_bus.level_db", "Drum bus", "dB", -24, 12, 0.5, 0, (-24, -12, 0, 12),
              hint="mark: where the song's mix peaks at −8 dBFS"),
    ]  # fmt: skip


def send_rulers(bus: str, sends: list[str]) -> list[Ruler]:
    """One short ruler a send."""
    return [
        Ruler(f"parallel.{bus}.sends.{mic}", mic, "dB", -40, 6, 0.5, 0, (-40, -20, 0, 6))
        for mic in sends
    ]
