"""The measured rulers of each station, and the choices beside them: all from the values' own
descriptions (`process.values`).

A ruler is the control of the application: a horizontal scale with the measurement drawn in it.
What is drawn comes with the station's picture; here stands what does not depend on sound.
"""

import json
from dataclasses import asdict, dataclass, replace
from typing import Any

from arkund.core.kit.roles import label as mic_label
from arkund.core.process.band import USED, Band
from arkund.core.process.cascade import Filter
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.key import Key
from arkund.core.process.stage import Stage
from arkund.core.process.transient import BandAbove, Transient
from arkund.core.process.values import Part, Value, described
from arkund.core.sheet.channels import DRUM_BUS, Bus, DrumBus, Group, Mic, Send, stage_path
from arkund.core.sheet.lanes import hit_lists, mic_order
from arkund.core.sheet.layers import LayerBase
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.patches import read_path
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.timing import TimingRule
from arkund.core.sheet.treating import Clean, Even
from arkund.songs.wording import bars_words, over_words


@dataclass(frozen=True)
class Ruler:
    """A number's control at a path; ``switch`` is the path of what turns its part on and off."""

    path: str
    value: Value
    label: str
    switch: str = ""

    def with_value(self, sheet: Sheet) -> dict[str, Any]:
        """The ruler as the template needs it. A double click returns to ``fallback``."""
        v = self.value
        low, high = v.ends
        return {
            "path": self.path,
            "label": self.label,
            "unit": v.unit,
            "low": low,
            "high": high,
            "step": v.step,
            "scale": v.scale,
            "hint": v.hint,
            "differs": [
                f"bars {bars_words(o.bars)}: {over_words(o, v.unit)}"
                for o in sheet.over
                if o.path == self.path
            ],
            "switch": self.switch,
            # A fader that is shut as it comes is shut again.
            "fallback": v.default,
            "ticks_text": " ".join(f"{t:g}" for t in v.ticks),
            "value": read_path(sheet, self.path),
            "slug": self.path.replace(".", "-"),
            "on": bool(read_path(sheet, self.switch)) if self.switch else True,
            "shut": OFF_DB if v.low == OFF_DB else None,
        }


@dataclass(frozen=True)
class Choice:
    """A control for one of several words or numbers, or for what is on or off."""

    path: str
    label: str
    options: tuple[tuple[str, str], ...]
    hint: str = ""

    def as_dict(self) -> dict[str, Any]:
        """The choice as the template needs it: ``options`` as (JSON, words)."""
        return asdict(self)


def _ruler(path: str, part: type[Part], name: str, label: str = "", switch: str = "") -> Ruler:
    value = described(part)[name]
    return Ruler(f"{path}.{name}", value, label or _capital(value.label), switch)


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def _choice(path: str, part: type[Part], name: str, label: str = "") -> Choice:
    value = described(part)[name]
    words = {True: "on", False: "off"}
    options = (
        tuple(
            (
                json.dumps(c),
                words[c]
                if isinstance(c, bool)
                else f"{c} {value.unit}".strip()
                if not isinstance(c, str)
                else c.replace("_", " "),
            )
            for c in reversed(value.choices)
        )
        if value.choices == (False, True)
        else tuple(
            (json.dumps(c), f"{c} {value.unit}".strip().replace("_", " ")) for c in value.choices
        )
    )
    return Choice(f"{path}.{name}", label or value.label, options, value.hint)


def level_rulers(mic: str) -> list[Ruler]:
    """Trim, fader and pan of a mic."""
    return [_ruler(f"mics.{mic}", Mic, name) for name in ("trim_db", "fader_db", "pan")]


def align_rulers(mic: str) -> list[Ruler]:
    """The delay of a mic."""
    return [_ruler(f"mics.{mic}", Mic, "delay_samples")]


def timing_rulers(rule: int) -> list[Ruler]:
    """Of one timing rule, by its place in the sheet."""
    return [
        _ruler(f"timing.rules.{rule}", TimingRule, name)
        for name in ("strength", "window_ms", "swing")
    ]


def clean_rulers(mic: str) -> list[Ruler]:
    """The gate of a mic."""
    return [
        _ruler(f"mics.{mic}.clean", Clean, name)
        for name in (
            "threshold_db",
            "hysteresis_db",
            "hold_ms",
            "release_ms",
            "range_db",
            "ring_hz",
            "ghosts_db",
            "attack_ms",
            "lookahead_ms",
            "soft_ms",
        )
    ] + [_ruler(f"mics.{mic}.clean.key", Key, name) for name in ("high_pass_hz", "low_pass_hz")]


def gate_choices(sheet: Sheet, mic: str) -> list[Choice]:
    """What of a mic's gate is chosen from words."""
    return [gate_sources(sheet, mic), _choice(f"mics.{mic}.clean", Clean, "shuts")]


def gate_sources(sheet: Sheet, mic: str) -> Choice:
    """What the threshold of a mic's gate may listen to."""
    names = [m for m in mic_order(sheet) if m != mic and not sheet.mics[m].unused]
    options = [(json.dumps(""), "itself"), *((json.dumps(n), mic_label(n)) for n in names)]
    return Choice(f"mics.{mic}.clean.key.source", "threshold listens to", tuple(options))


def replace_rulers(sheet: Sheet, mic: str, layer: str) -> list[Ruler]:
    """Even hits of a mic, and the numbers of the layer in hand: its fader first."""
    out = [_ruler(f"mics.{mic}.even", Even, "amount")]
    if (one := sheet.layers.get(layer)) is not None:
        shared = described(LayerBase)
        numbers = sorted(
            (n for n, v in described(type(one)).items() if v.is_number),
            key=lambda n: (n != "fader_db", n in shared),
        )
        out += [
            _ruler(f"layers.{layer}", type(one), n, "Blend" if n == "fader_db" else "")
            for n in numbers
        ]
    return out


def layer_choices(sheet: Sheet, layer: str) -> list[Choice]:
    """What of a layer is chosen from words."""
    one = sheet.layers.get(layer)
    if one is None:
        return []
    return [
        _choice(f"layers.{layer}", type(one), name)
        for name, v in described(type(one)).items()
        if v.choices
    ]


def stage_rulers(channel: str, stage: Stage, band: str = "") -> list[Ruler]:
    """Every number of a stage; of an EQ its filters, the ``band`` in hand and its output."""
    path = stage_path(channel, stage)
    if isinstance(stage, Equaliser):
        return _eq_rulers(path, stage, band)
    numbers = [name for name, v in described(type(stage)).items() if v.is_number]
    own = [
        _ruler(path, type(stage), name, switch="" if n else f"{path}.on")
        for n, name in enumerate(numbers)
    ]
    if isinstance(stage, Transient):
        own = _in_bands(path, stage, own)
    if stage.listens is None:
        return own
    return own + [_ruler(f"{path}.key", Key, name) for name in ("high_pass_hz", "low_pass_hz")]


def _in_bands(path: str, stage: Transient, own: list[Ruler]) -> list[Ruler]:
    """Attack and sustain of each band, from the lowest up, then what is common to all."""
    if not stage.bands:
        return own
    attack, sustain, *common = own
    lowest = [replace(one, label=f"Lowest {one.label.lower()}") for one in (attack, sustain)]
    above = [
        _ruler(f"{path}.bands.{band.id}", BandAbove, name, f"Band {n} {label}")
        for n, band in enumerate(stage.above, 2)
        for name, label in (
            ("frequency_hz", "from"),
            ("attack_db", "attack"),
            ("sustain_db", "sustain"),
        )
    ]
    return [*lowest, *above, *common]


def key_sources(sheet: Sheet, channel: str, stage: Stage) -> Choice | None:
    """What a stage may listen to; None of one without a detector."""
    if stage.listens is None:
        return None
    names = [m for m in mic_order(sheet) if not sheet.mics[m].unused]
    if not channel.startswith("mics."):
        names += sheet.groups
    if channel == DRUM_BUS:
        names += sheet.buses
    names += hit_lists(sheet)
    options = [(json.dumps(""), "itself"), *((json.dumps(n), mic_label(n)) for n in names)]
    return Choice(f"{stage_path(channel, stage)}.key.source", "listens to", tuple(options))


def _eq_rulers(path: str, eq: Equaliser, band: str) -> list[Ruler]:
    high, low, b = f"{path}.high_pass", f"{path}.low_pass", f"{path}.bands.{band}"
    called = f"Band {band.lstrip('b')}"
    held = next((one for one in eq.bands if one.id == band), None)
    of_band = _band_rulers(b, called, held) if held else []
    if held and held.moves:
        moves = ("threshold_db", "ratio", "attack_ms", "release_ms")
        of_band += [_ruler(b, Band, name) for name in moves]
        if held.hears == "key":
            ends = ("high_pass_hz", "low_pass_hz")
            of_band += [_ruler(f"{path}.key", Key, name) for name in ends]
    return [
        _ruler(high, Filter, "frequency_hz", "High-pass", f"{high}.on"),
        _ruler(high, Filter, "resonance", "High-pass resonance"),
        *of_band,
        _ruler(low, Filter, "frequency_hz", "Low-pass", f"{low}.on"),
        _ruler(low, Filter, "resonance", "Low-pass resonance"),
        _ruler(path, Equaliser, "output_db"),
    ]


BAND_RULERS = {
    "frequency_hz": "",
    "gain_db": " gain",
    "q": " width",
    "range_db": " moves by",
}
"""What of a band has a ruler, and what that is called behind the band's number."""


def _band_rulers(path: str, called: str, band: Band) -> list[Ruler]:
    used = USED.get(band.kind, tuple(BAND_RULERS))
    return [
        _ruler(path, Band, name, called + more, "" if more else f"{path}.on")
        for name, more in BAND_RULERS.items()
        if name in used
    ]


def stage_choices(channel: str, stage: Stage, band: str = "") -> list[Choice]:
    """What of a stage is chosen from words: curves, slopes, kinds, switches."""
    path = stage_path(channel, stage)
    if isinstance(stage, Equaliser):
        own = [
            _choice(f"{path}.high_pass", Filter, "slope_db_oct", "high-pass slope"),
            _choice(f"{path}.low_pass", Filter, "slope_db_oct", "low-pass slope"),
        ]
        if held := next((one for one in stage.bands if one.id == band), None):
            of_band = f"{path}.bands.{band}"
            own.insert(0, _choice(of_band, Band, "kind", f"band {band.lstrip('b')}"))
            if held.moves:
                own.insert(1, _choice(of_band, Band, "hears"))
        return own
    return [
        _choice(path, type(stage), name)
        for name, v in described(type(stage)).items()
        if v.choices and name != "on"
    ]


def channel_rulers(sheet: Sheet, name: str) -> list[Ruler]:
    """The fader of a group, a bus or the drum bus."""
    if name in sheet.buses:
        return [_ruler(f"buses.{name}", Bus, "fader_db")]
    if name in sheet.groups:
        return [_ruler(f"groups.{name}", Group, "fader_db")]
    return [_ruler(DRUM_BUS, DrumBus, "fader_db")]


def send_rulers(bus: str, sends: list[str]) -> list[Ruler]:
    """One short ruler a send."""
    return [
        _ruler(f"buses.{bus}.sends.{source}", Send, "db", mic_label(source)) for source in sends
    ]
