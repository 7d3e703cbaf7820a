"""What overheads still hear of a drum that a layer plays instead of."""

from collections.abc import Sequence

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.replace.layers import NAME
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.nodes import Node
from arkund.core.graph.sources import plays
from arkund.core.kit.roles import label
from arkund.core.measure.levels import hit_peaks
from arkund.core.shape.sides import louder_side
from arkund.core.sheet.lanes import HITS
from arkund.core.sheet.pairs import lanes
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db, amplitudes_to_db

DUCKED = ("overhead", "room", "kit")
DUCK, DUCK_DB = "duck", 4.0


def find_left(study: Study, mic: str, school: School) -> list[Finding]:
    """How loud overheads still hear a drum that a layer plays instead of, and a duck for it."""
    out = []
    for name, layer in study.sheet.layers.items():
        piece = study.sheet.mics[layer.of].name.piece
        if (
            layer.mode != "instead"
            or layer.mute
            or any(s.id == DUCK for s in study.sheet.mics[mic].chain)
        ):
            continue
        hits = [h for h in study.hits if h.piece == piece and plays(layer, h)]
        if len(hits) < 4:
            continue
        times = [h.time_s for h in hits]
        old = _typical_db(study, study.graph.outs[mic], times)
        own = _typical_db(study, study.graph.layers[name], times)
        pulse = amplitude_to_db(float(np.median([h.velocity for h in hits])) / 127)
        patch = _duck(study, mic, f"{piece}{HITS}", pulse)
        then = _typical_db(study, (tried := study.tried(patch)).graph.outs[mic], times, tried)
        out.append(
            Finding(
                NAME,
                "left_behind",
                f"{mic}.{name}",
                spoken(
                    f"{label(mic)} still hears the old {label(piece or '')}, at {old - own:+.1f} dB against "
                    f"the layer that plays instead. A duck on its hits lowers it by {old - then:.1f} dB, "
                    "with all that rings there."
                ),
                {"against_layer_db": round(old - own, 1)},
                0.55,
                patch,
                {"against_layer_db": Change(round(old - own, 1), round(then - own, 1))},
                mic=mic,
            )
        )
    return out


def _duck(study: Study, mic: str, hits: str, pulse_db: float) -> Patch:
    """A compressor at the mic's end that listens to a list of hits."""
    chain = study.sheet.mics[mic].chain
    stage = {
        "kind": "compressor",
        "ratio": 20.0,
        "knee_db": 0.0,
        "attack_ms": 0.3,
        "release_ms": 60.0,
        "lookahead_ms": 1.0,
        "threshold_db": round(pulse_db - DUCK_DB / 0.95, 1),
        "key": {"source": hits},
        "after": chain[-1].id if chain else "",
    }
    return {f"mics.{mic}.chain.{DUCK}": stage}


def _typical_db(
    study: Study, node: Node, times: Sequence[float], tried: Study | None = None
) -> float:
    """Median peak of a stereo node at hits, in dBFS."""
    sound = (tried or study).engine.read(node, 0, study.sheet.frames)
    level = louder_side(sound)
    return float(np.median(amplitudes_to_db(hit_peaks(level, study.rate, times))))


def _ducked(sheet: Sheet) -> list[str]:
    """Lanes that hear the whole kit."""
    return [mic for mic in lanes(sheet) if sheet.mics[mic].name.role in DUCKED]


def _reads_left(sheet: Sheet, mic: str) -> list[object]:
    instead = {
        n: layer.model_dump() for n, layer in sheet.layers.items() if layer.mode == "instead"
    }
    return [instead, sheet.mics if instead else None]


LEFT_MODULE = Module(NAME, "replace", 1, _ducked, _reads_left, find_left)
