"""Changes in plain words: what a path of the sheet is called and how its values are written."""

from collections.abc import Mapping
from typing import Any

from arkund.core.kit.roles import label as mic_label
from arkund.core.mix.sheet import OFF_DB

_FIELDS: dict[str, tuple[str, str]] = {
    "repair.dc": ("offset taken away", ""),
    "repair.hum_hz": ("hum notches", "Hz"),
    "repair.hum_lines": ("hum notches, lines", ""),
    "repair.rebuilt": ("clipped runs rebuilt", ""),
    "repair.clip_gains": ("single strokes brought down", ""),
    "trim_db": ("trim", "dB"),
    "polarity": ("polarity", ""),
    "delay_samples": ("delay", "samples"),
    "clean.on": ("gate", ""),
    "clean.opens_on": ("gate opens on", ""),
    "clean.threshold_db": ("gate threshold", "dB"),
    "clean.hysteresis_db": ("gate hysteresis", "dB"),
    "clean.attack_ms": ("gate attack", "ms"),
    "clean.hold_ms": ("gate hold", "ms"),
    "clean.release_ms": ("gate release", "ms"),
    "clean.range_db": ("gate range", "dB"),
    "clean.lookahead_ms": ("gate lookahead", "ms"),
    "eq.on": ("EQ", ""),
    "eq.high_pass.on": ("high-pass", ""),
    "eq.high_pass.frequency_hz": ("high-pass", "Hz"),
    "eq.high_pass.slope_db_oct": ("high-pass slope", "dB/oct"),
    "eq.high_pass.resonance": ("high-pass resonance", ""),
    "eq.low_pass.on": ("low-pass", ""),
    "eq.low_pass.frequency_hz": ("low-pass", "Hz"),
    "eq.low_pass.slope_db_oct": ("low-pass slope", "dB/oct"),
    "eq.low_pass.resonance": ("low-pass resonance", ""),
    "eq.output_db": ("EQ output", "dB"),
    "transient.on": ("transient shaper", ""),
    "transient.attack_db": ("attack", "dB"),
    "transient.sustain_db": ("sustain", "dB"),
    "compressor.on": ("compressor", ""),
    "compressor.threshold_db": ("compressor threshold", "dB"),
    "compressor.ratio": ("ratio", ": 1"),
    "compressor.knee_db": ("knee", "dB"),
    "compressor.attack_ms": ("compressor attack", "ms"),
    "compressor.release_ms": ("compressor release", "ms"),
    "compressor.makeup_db": ("makeup", "dB"),
    "compressor.mix": ("compressor mix", "×"),
    "compressor.lookahead_ms": ("compressor lookahead", "ms"),
    "mute": ("mute", ""),
    "fader_db": ("fader", "dB"),
    "pan": ("pan", ""),
    "glue": ("glue", ""),
    "on": ("bus", ""),
    "blend_db": ("blend", "dB"),
    "level_db": ("level", "dB"),
    "bpm": ("tempo", "BPM"),
    "kick_alone_ms": ("kick's mics moved alone by up to", "ms"),
    "changes": ("tempo changes", ""),
    "first_downbeat_s": ("bar 1", "s"),
    "root_note": ("root note", ""),
    "bed_db": ("level of the bed", "dB"),
    "distance_cm": ("distance", "cm"),
    "copies": ("copied places", ""),
}
_RULE_FIELDS = {
    "strength": ("strength", "×"), "window_ms": ("left alone within", "ms"), "swing": ("swing", ""),
    "school": ("school", ""), "division": ("finest division", ""),
}  # fmt: skip
_BAND_FIELDS = {"on": "", "gain_db": "dB", "frequency_hz": "Hz", "q": "Q", "kind": ""}


def path_words(path: str) -> tuple[str, str, str]:
    """``(whose, what, unit)`` of a path, e.g. ``("snare top", "gate threshold", "dB")``."""
    steps = path.split(".")
    if steps[0] == "mics" and len(steps) > 2:
        whose, rest = mic_label(steps[1]), ".".join(steps[2:])
    elif steps[0] == "parallel" and len(steps) > 2:
        whose, rest = f"{steps[1]} bus", ".".join(steps[2:])
        if steps[2] == "sends":
            return whose, f"send from {mic_label(steps[3])}", "dB"
    elif steps[0] == "drum_bus":
        whose, rest = "drum bus", ".".join(steps[1:]).replace("compressor.on", "glue")
    elif steps == ["timing", "rules"]:
        return "song", "timing rules", ""
    elif steps[:2] == ["timing", "rules"]:
        return f"timing rule {int(steps[2]) + 1}", *_RULE_FIELDS.get(steps[3], (steps[3], ""))
    elif steps[:2] in (["timing", "to_s"], ["timing", "lines"]) and len(steps) == 3:
        what = "put by hand at" if steps[1] == "to_s" else "meant on the line, quarters"
        return "one stroke", what, "s" if steps[1] == "to_s" else ""
    elif len(steps) > 3 and steps[0] == "takes" and steps[2] == "corrections":
        return "one stroke", "corrected", ""
    elif steps[0] == "comp" and len(steps) == 3:
        fields = {"fade_ms": ("crossfade", "ms"), "shape": ("crossfade keeps", "")}
        return f"join {steps[1]}", *fields.get(steps[2], (steps[2], ""))
    elif steps[0] == "copies" and len(steps) == 3:
        return f"copy {int(steps[1]) + 1}", "crossfade", "ms"
    elif steps == ["comp"]:
        return "song", "takes joined, stretches", ""
    else:
        whose, rest = "song", ".".join(steps[1:]) or steps[0]
    if rest.startswith("eq.bands."):
        _, _, number, field = rest.split(".")
        what = f"band {int(number) + 1}"
        return whose, f"{what} {field}" if field in ("q", "kind") else what, _BAND_FIELDS[field]
    what, unit = _FIELDS.get(rest, (rest.replace("_", " "), ""))
    return whose, what, unit


def refusal_words(path: str, said: str) -> str:
    """Why a value is refused, by the name that the interface gives it."""
    steps = path.split(".")
    if not path:
        return f"{said[0].upper()}{said[1:]}"
    if steps[0] == "sections" and len(steps) > 2:
        whose, what = f"section {int(steps[1]) + 1}", steps[2].replace("_", " ")
    elif steps[:2] == ["tempo", "changes"] and len(steps) > 3:
        whose, what = f"tempo change {int(steps[2]) + 1}", steps[3].replace("bpm", "tempo")
    else:
        whose, what, _ = path_words(path)
    return f"The {what} of the {whose} cannot be that: {said}"


def value_words(value: Any, unit: str) -> str:
    """A value as the interface writes it: a true minus sign, ``off`` for a shut fader."""
    if isinstance(value, bool):
        return "on" if value else "off"
    if value is None:
        return "as it was"
    if isinstance(value, (list, tuple, dict)):
        return str(len(value))
    if isinstance(value, (int, float)):
        if unit == "dB" and value <= OFF_DB:
            return "off"
        number = f"{value:.2f}".rstrip("0").rstrip(".") if abs(value) < 1000 else f"{value:.0f}"
        return f"{number.replace('-', '−')} {unit}".strip()
    return str(value) or "not said"


def label_of(patch: Mapping[str, Any], before: Mapping[str, Any]) -> str:
    """A line for the log: ``snare top: gate threshold −30 dB → −32 dB``."""
    parts = []
    for path, value in list(patch.items())[:3]:
        whose, what, unit = path_words(path)
        if path.endswith("polarity"):
            parts.append(f"{whose}: polarity {'flipped' if value == -1 else 'as recorded'}")
            continue
        old, new = value_words(before.get(path), unit), value_words(value, unit)
        shown = new if isinstance(value, bool) else f"{old} → {new}"
        parts.append(f"{whose}: {what} {shown}")
    if len(patch) > 3:
        parts.append(f"and {len(patch) - 3} more")
    return "; ".join(parts)
