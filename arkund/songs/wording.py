"""Changes in plain words: what a path of the sheet is called and how its values are written.

Names and units stand at the values themselves (`process.values`); here is how they are put
together.
"""

from collections.abc import Mapping
from typing import Any

from arkund.core.kit.roles import label as mic_label
from arkund.core.process.registry import BY_KIND
from arkund.core.sheet.channels import DRUM_BUS, Bus, Channel, DrumBus, Group, Mic
from arkund.core.sheet.differences import Over
from arkund.core.sheet.layers import SampleLayer, SubLayer
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.timing import TimingRule

_SONG = {
    "bpm": ("tempo", "BPM"),
    "kick_alone_ms": ("kick's mics moved alone by up to", "ms"),
    "changes": ("tempo changes", ""),
    "first_downbeat_s": ("bar 1", "s"),
    "root_note": ("root note", ""),
    "bed_db": ("level of the bed", "dB"),
    "copies": ("copied places", ""),
}
_CHANNELS: dict[str, tuple[type[Channel], str]] = {
    "mics": (Mic, "{}"),
    "layers": (SubLayer, "{}"),
    "groups": (Group, "{} group"),
    "buses": (Bus, "{} bus"),
}
_PARTS = {
    "key": "",
    "high_pass": "high-pass",
    "low_pass": "low-pass",
    "clean": "gate",
    "even": "",
    "repair": "",
}
"""Parts within a channel or stage, as they stand before their values' names."""

_PLAIN = ("on", "gain_db", "frequency_hz")
"""Values that go by the name of their band or filter alone."""


def bars_words(bars: str) -> str:
    """Bars of a difference as they are read: ``9–16, 25``."""
    return ", ".join(one.strip().replace("-", "–") for one in bars.split(","))


def over_words(over: Over, unit: str) -> str:
    """What a difference makes of its value: ``−9 dB``, ``by +3 dB``."""
    if not over.by or isinstance(over.value, (bool, str)):
        return value_words(over.value, unit)
    sign = "+" if over.value > 0 else ""
    return f"by {sign}{value_words(over.value, unit)}"


def path_words(path: str, sheet: Sheet | None = None) -> tuple[str, str, str]:
    """``(whose, what, unit)`` of a path, e.g. ``("snare top", "gate threshold", "dB")``; with a
    ``sheet``, stages by the kind that they have there."""
    steps = path.split(".")
    if steps[0] in _CHANNELS and len(steps) > 1:
        model, called = _CHANNELS[steps[0]]
        whose = called.format(mic_label(steps[1]) if steps[0] == "mics" else steps[1])
        channel = getattr(sheet, steps[0], {}).get(steps[1]) if sheet else None
        if steps[0] == "layers":
            whose, model = steps[1].replace("_", " "), type(channel) if channel else model
        return whose, *_within(model, steps[2:], channel)
    if steps[0] == DRUM_BUS:
        return "drum bus", *_within(DrumBus, steps[1:], sheet.drum_bus if sheet else None)
    if steps[0] == "over" and len(steps) > 1:
        over = next((o for o in sheet.over if o.id == steps[1]), None) if sheet else None
        if over is None:
            return "song", f"difference {steps[1]}", ""
        whose, what, unit = path_words(over.path, sheet)
        what = f"{what} over bars {bars_words(over.bars)}"
        if steps[2:] in ([], ["value"]):
            return whose, what, unit
        said, unit = _field(Over, steps[2])
        return whose, f"{what}, {said}", unit
    if steps == ["timing", "rules"]:
        return "song", "timing rules", ""
    if steps[:2] == ["timing", "rules"] and steps[2].isdigit():
        whose = f"timing rule {int(steps[2]) + 1}"
        return (whose, *_field(TimingRule, steps[3])) if len(steps) > 3 else ("song", whose, "")
    if steps[:2] in (["timing", "to_s"], ["timing", "lines"]) and len(steps) == 3:
        what = "put by hand at" if steps[1] == "to_s" else "meant on the line, quarters"
        return "one hit", what, "s" if steps[1] == "to_s" else ""
    if len(steps) > 3 and steps[0] == "takes" and steps[2] == "corrections":
        return "one hit", "corrected", ""
    if steps[0] == "comp" and len(steps) == 3:
        fields = {"fade_ms": ("crossfade", "ms"), "shape": ("crossfade keeps", "")}
        return f"join {steps[1]}", *fields.get(steps[2], (steps[2], ""))
    if steps[0] == "copies" and len(steps) == 3 and steps[1].isdigit():
        return f"copy {int(steps[1]) + 1}", "crossfade", "ms"
    if steps == ["comp"]:
        return "song", "takes joined, stretches", ""
    rest = ".".join(steps[1:]) or steps[0]
    return "song", *_SONG.get(rest, (rest.replace("_", " "), ""))


def _within(model: Any, steps: list[str], channel: Channel | None) -> tuple[str, str]:
    """What a path within a channel is called, and its unit."""
    if not steps:
        called = {Bus: "bus", SampleLayer: "layer", SubLayer: "sub layer"}
        return called.get(model, model.__name__.lower()), ""
    first, rest = steps[0], steps[1:]
    if first == "chain" and rest:
        return _stage(rest, channel)
    if first == "sends" and rest:
        how = {
            "pre": " before the fader",
            "untreated": " before the chain",
            "by_hits": " by its hits",
        }.get(rest[-1], "")
        return f"send from {mic_label(rest[0])}{how}", "" if how else "dB"
    if first in _PARTS and rest:
        return _part(_PARTS[first], model.model_fields[first].annotation, rest[0])
    return _field(model, first)


def _stage(steps: list[str], channel: Channel | None) -> tuple[str, str]:
    """Of a stage, by its id or as pydantic names it: by its place and kind."""
    called, rest = steps[0], steps[1:]
    if called.isdigit():
        kind, rest = (rest[0], rest[1:]) if rest else ("chain", [])
        called = kind
    else:
        known = (
            {stage.id: str(getattr(stage, "kind", "")) for stage in channel.chain}
            if channel
            else {}
        )
        kind = known.get(called) or called.rstrip("0123456789_")
    processor = BY_KIND.get(kind)
    if processor is None:
        return called if called == "chain" else f"stage {called}", ""
    name = processor.label if called == kind else f"{processor.label} {called}"
    if not rest or rest == ["on"]:
        return name, ""
    if rest == ["after"]:
        return f"{name} comes after", ""
    if rest[0] == "bands" and len(rest) > 2:
        band = f"band {int(rest[1]) + 1 if rest[1].isdigit() else rest[1].lstrip('b')}"
        return _part(band, processor.model_fields["bands"].annotation.__args__[0], rest[2])  # type: ignore[union-attr]
    if rest[0] in _PARTS and len(rest) > 1:
        return _part(_PARTS[rest[0]], processor.model_fields[rest[0]].annotation, rest[1])
    what, unit = _field(processor, rest[0])
    return what if what.startswith(name) else f"{name} {what}", unit


def _part(name: str, model: Any, field: str) -> tuple[str, str]:
    """A value of a part: its own name behind the part's, or the part's alone."""
    what, unit = _field(model, field)
    if field in _PLAIN and name:
        return name, unit
    return what if not name or what.startswith(name) else f"{name} {what}", unit


def _field(model: Any, name: str) -> tuple[str, str]:
    field = model.model_fields.get(name)
    if field is None or field.title is None:
        return name.replace("_", " "), ""
    extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
    return field.title, str(extra.get("unit", ""))


def refusal_words(path: str, said: str, sheet: Sheet | None = None) -> str:
    """Why a value is refused, by the name that the interface gives it."""
    steps = path.split(".")
    if not path:
        return f"{said[0].upper()}{said[1:]}"
    if steps[0] == "sections" and len(steps) > 2 and steps[1].isdigit():
        whose, what = f"section {int(steps[1]) + 1}", steps[2].replace("_", " ")
    elif steps[:2] == ["tempo", "changes"] and len(steps) > 3 and steps[2].isdigit():
        whose, what = f"tempo change {int(steps[2]) + 1}", steps[3].replace("bpm", "tempo")
    else:
        whose, what, _ = path_words(path, sheet)
        whose = f"the {whose}"
    return f"{what[:1].upper()}{what[1:]} of {whose} refused: {said}"


def value_words(value: Any, unit: str) -> str:
    """A value as the interface writes it: a true minus sign, ``off`` for a shut fader."""
    if isinstance(value, bool):
        return "on" if value else "off"
    if value is None:
        return "as it was"
    if isinstance(value, (list, tuple, dict)):
        return str(len(value)) if value else "none"
    if isinstance(value, (int, float)):
        if unit == "dB" and value <= OFF_DB:
            return "off"
        number = f"{value:.2f}".rstrip("0").rstrip(".") if abs(value) < 1000 else f"{value:.0f}"
        return f"{number.replace('-', '−')} {unit}".strip()
    return str(value).replace("_", " ") or "not set"


def label_of(
    patch: Mapping[str, Any], before: Mapping[str, Any], sheet: Sheet | None = None
) -> str:
    """A line for the log: ``snare top: gate threshold −30 dB → −32 dB``; stages by their kinds in
    ``sheet``."""
    parts = []
    # What stays as it was is no news, unless there is no other.
    changed = {path: value for path, value in patch.items() if before.get(path) != value} or patch
    for path, value in list(changed.items())[:3]:
        whose, what, unit = path_words(path, sheet)
        if path.endswith("polarity"):
            parts.append(f"{whose}: polarity {'flipped' if value == -1 else 'as recorded'}")
        elif path.startswith("over.") and isinstance(value, Mapping):
            parts.append(f"{whose}: {what} {value_words(value.get('value'), unit)}")
        elif path.startswith("over.") and path.endswith(".bars") and isinstance(value, str):
            what = what.partition(" over bars ")[0]
            old = bars_words(str(before.get(path) or ""))
            parts.append(f"{whose}: {what} over bars {old} → {bars_words(value)}")
        elif isinstance(value, Mapping) and before.get(path) is None:
            parts.append(f"{whose}: {_called(value, what)} added")
        elif isinstance(value, Mapping) and (part := path.rpartition(".")[2]) in _PARTS:
            parts.append(f"{whose}: {_PARTS[part] or what} settings replaced")
        elif value is None and isinstance(was := before.get(path), Mapping):
            parts.append(f"{whose}: {_called(was, what)} removed")
        elif (changed_of := _changed_of(before.get(path), value)) is not None:
            parts.append(f"{whose}: {what}, {changed_of} of {len(value)} changed")
        else:
            old, new = (
                "itself" if path.endswith("key.source") and one == "" else value_words(one, unit)
                for one in (before.get(path), value)
            )
            shown = new if isinstance(value, bool) else f"{old} → {new}"
            parts.append(f"{whose}: {what} {shown}")
    if len(changed) > 3:
        parts.append(f"and {len(changed) - 3} more")
    return "; ".join(parts)


def _changed_of(before: Any, now: Any) -> int | None:
    """How many of several entries are others than before, where there are as many as before: their
    number alone would say nothing. None for anything else."""
    if isinstance(before, Mapping) and isinstance(now, Mapping) and len(before) == len(now):
        return sum(before.get(name) != entry for name, entry in now.items()) or None
    if isinstance(before, (list, tuple)) and isinstance(now, (list, tuple)):
        changed = sum(a != b for a, b in zip(before, now, strict=False))
        return changed if changed and len(before) == len(now) else None
    return None


def _called(value: Mapping[str, Any], what: str) -> str:
    """What is added or removed: a stage by its processor's name."""
    processor = BY_KIND.get(str(value.get("kind")))
    return processor.label if processor else what
