"""Sheets and changes that earlier versions wrote, as this one says them.

The first sheet had one fixed row of EQ, transient shaper and compressor a mic, buses with one
compressor, and no groups. The row becomes a chain whose stages keep those names as ids; groups are
added, transparent. The second sheet called hits strokes. Stored bytes stay as they are; this is asked
whenever they are read.
"""

import re
from collections.abc import Mapping
from typing import Any

from arkund.core.sheet.channels import DRUMS, group_of

RENAMED = {"punch": "strike", "sustain": "bloom"}
"""What the first version called the buses that a song comes with."""

ROW = ("eq", "transient", "compressor")
"""The first sheet's row in its order, now the ids and kinds of a chain's first stages."""


def upgraded(document: Mapping[str, Any]) -> dict[str, Any]:
    """A document of the first or second version as this one's. What is wrong in it stays wrong."""
    second = document if document.get("version") == 2 else _second(document)
    out: dict[str, Any] = _with_hits(second, "")
    return out | {"version": 3}


def _with_hits(value: Any, name: str) -> Any:
    """A value of a second sheet, which stands under ``name``, with hits called hits."""
    if isinstance(value, Mapping):
        if (
            isinstance(path := value.get("path"), str) and "value" in value
        ):  # a difference over bars
            path, there = _change_with_hits(path, value["value"])
            return {**value, "path": path, "value": there}
        held = {k: _with_hits(v, k) for k, v in value.items()}
        return {k: _layer_with_hits(v) for k, v in held.items()} if name == "layers" else held
    if isinstance(value, list | tuple):
        return [_with_hits(one, "") for one in value]
    if name == "opens_on" and value == "strokes":
        return "hits"
    if name == "source" and isinstance(value, str):
        return re.sub("_strokes$", "_hits", value)
    return value


def _layer_with_hits(layer: Any) -> Any:
    if not isinstance(layer, Mapping):
        return layer
    return {"hits" if k == "strokes" else k: v for k, v in layer.items()}


def _change_with_hits(path: str, value: Any) -> tuple[str, Any]:
    steps = path.split(".")
    value = _with_hits(value, steps[-1])
    if steps[0] == "layers" and len(steps) == 2:
        value = _layer_with_hits(value)
    return re.sub(r"^(layers\.[^.]+)\.strokes$", r"\1.hits", path), value


def _second(document: Mapping[str, Any]) -> dict[str, Any]:
    """A first sheet's document as a second one's."""
    out = {k: v for k, v in document.items() if k != "parallel"}
    out["version"] = 2
    mics = document.get("mics")
    if isinstance(mics, Mapping):
        out["mics"] = {name: _mic(mic) for name, mic in mics.items()}
        groups = {m.get("to") for m in out["mics"].values() if isinstance(m, Mapping)}
        out["groups"] = {str(name): {} for name in sorted(groups - {DRUMS, None}, key=str)}
    parallel = document.get("parallel", {})
    if isinstance(parallel, Mapping):
        out["buses"] = {RENAMED.get(name, name): _bus(bus) for name, bus in parallel.items()}
    if isinstance(bus := document.get("drum_bus"), Mapping):
        out["drum_bus"] = _drum_bus(bus)
    return out


def _mic(mic: Any) -> Any:
    if not isinstance(mic, Mapping):
        return mic
    out = {k: v for k, v in mic.items() if k not in ROW}
    out["chain"] = [_stage(kind, mic.get(kind, {})) for kind in ROW]
    out["to"] = group_of(str(mic.get("role")))
    return out


def _stage(kind: str, given: Any) -> Any:
    """One of the row as a stage; the first version's compressors were off unless said to be on."""
    if not isinstance(given, Mapping):
        return given
    out = {"on": kind != "compressor", **given, "kind": kind, "id": kind}
    if kind == "eq" and isinstance(bands := out.get("bands"), list | tuple):
        out["bands"] = _bands(bands)
    return out


def _bands(bands: Any) -> list[Any]:
    return [
        {**band, "id": f"b{number}"} if isinstance(band, Mapping) else band
        for number, band in enumerate(bands, 1)
    ]


def _bus(bus: Any) -> Any:
    if not isinstance(bus, Mapping):
        return bus
    out = {k: v for k, v in bus.items() if k not in ("on", "compressor", "blend_db", "sends")}
    out["chain"] = [_stage("compressor", bus.get("compressor", {}))]
    out["mute"] = not bus.get("on", True)
    out["fader_db"] = bus.get("blend_db", -90.0)
    sends = bus.get("sends", {})
    out["sends"] = _sends(sends)
    return out


def _sends(sends: Any) -> Any:
    return {k: {"db": v} for k, v in sends.items()} if isinstance(sends, Mapping) else sends


def _drum_bus(bus: Mapping[str, Any]) -> dict[str, Any]:
    out = {k: v for k, v in bus.items() if k not in ("compressor", "level_db")}
    glue = bus.get("compressor", {})
    if isinstance(glue, Mapping):
        glue = {"ratio": 2, "attack_ms": 20, "release_ms": 150, **glue}
    return out | {"chain": [_stage("compressor", glue)], "fader_db": bus.get("level_db", 0.0)}


_PATHS: tuple[tuple[str, str], ...] = (
    (r"^(mics\.[^.]+)\.(eq|transient|compressor)(\.|$)", r"\1.chain.\2\3"),
    (r"^(mics\.[^.]+\.chain\.eq\.bands)\.(\d+)", r"\1.#\2"),
    (r"^parallel\.([^.]+)\.compressor(\.|$)", r"buses.\1.chain.compressor\2"),
    (r"^parallel\.([^.]+)\.blend_db$", r"buses.\1.fader_db"),
    (r"^parallel\.([^.]+)\.on$", r"buses.\1.mute"),
    (r"^parallel\.([^.]+)\.sends\.([^.]+)$", r"buses.\1.sends.\2"),
    (r"^parallel(\.|$)", r"buses\1"),
    (r"^drum_bus\.compressor(\.|$)", r"drum_bus.chain.compressor\1"),
    (r"^drum_bus\.level_db$", r"drum_bus.fader_db"),
)
"""Where the first sheet's paths lie now."""


def upgraded_patch(patch: Mapping[str, Any]) -> dict[str, Any]:
    """A stored change of an earlier sheet as one of this; what is none stays as it is."""
    return dict(_change_with_hits(*_upgraded_change(path, value)) for path, value in patch.items())


def _upgraded_change(path: str, value: Any) -> tuple[str, Any]:
    steps = path.split(".")
    if _is_second(path):
        return path, value
    if steps[0] == "parallel" and len(steps) > 1:
        path = ".".join([steps[0], RENAMED.get(steps[1], steps[1]), *steps[2:]])
    for old, new in _PATHS:
        path = re.sub(old, new, path)
    path = re.sub(r"\.#(\d+)", lambda found: f".b{int(found[1]) + 1}", path)
    return path, _upgraded_value(steps, value)


def _is_second(path: str) -> bool:
    """Whether a path can only be one of a second sheet, or means the same in both."""
    first = re.match(
        r"^(mics\.[^.]+(\.(eq|transient|compressor)(\.|$)|$)|parallel(\.|$)"
        r"|drum_bus(\.(compressor(\.|$)|level_db$)|$)|mics$)",
        path,
    )
    return first is None


def _upgraded_value(steps: list[str], value: Any) -> Any:
    """A value that holds more than one setting, as it is said now."""
    if steps[0] == "mics" and isinstance(value, Mapping):
        if len(steps) == 1:
            return {k: _maybe_mic(v) for k, v in value.items()}
        if len(steps) == 2:
            return _maybe_mic(value)
        if len(steps) == 3 and steps[2] in ROW:
            return _stage(steps[2], value)
    if steps[0] == "mics" and steps[-1] == "bands" and isinstance(value, list):
        return _bands(value)
    if (
        steps[0] == "mics"
        and len(steps) == 5
        and steps[3] == "bands"
        and isinstance(value, Mapping)
    ):
        return {**value, "id": f"b{int(steps[4]) + 1}"}
    if steps[0] == "parallel":
        return _upgraded_bus_value(steps, value)
    if steps == ["drum_bus"] and isinstance(value, Mapping) and "chain" not in value:
        return _drum_bus(value)
    if steps == ["drum_bus", "compressor"]:
        return _stage("compressor", value)
    return value


def _maybe_mic(value: Any) -> Any:
    return value if isinstance(value, Mapping) and "chain" in value else _mic(value)


def _upgraded_bus_value(steps: list[str], value: Any) -> Any:
    if len(steps) == 1 and isinstance(value, Mapping):
        return {RENAMED.get(k, k): _bus(v) for k, v in value.items()}
    if len(steps) == 2:
        return _bus(value)
    if steps[2] == "compressor" and len(steps) == 3:
        return _stage("compressor", value)
    if steps[2] == "on" and isinstance(value, bool):
        return not value
    if steps[2] == "sends":
        if len(steps) == 3:
            return _sends(value)
        return {"db": value} if isinstance(value, int | float) else value
    return value
