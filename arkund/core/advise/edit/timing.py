"""Edit: the placements that a sheet's timing asks for, on this song's hits and sound."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.study import Study
from arkund.core.graph.hits import played_hits, take_hits
from arkund.core.graph.laying import laid_out
from arkund.core.graph.nodes import Node
from arkund.core.graph.summing import Guiding
from arkund.core.kit.roles import AMBIENCE, OFF_KIT, parse_mic_name
from arkund.core.sheet.lanes import KICK_ROLES
from arkund.core.timing.moves import ALL, KICK, EditList, edit_list
from arkund.core.timing.quantise import Placement, Rule, Wish, place_events
from arkund.core.timing.stretch import Guide
from arkund.core.timing.together import unheard_ms
from arkund.core.units import amplitude_to_db, db_to_amplitude

ONSET_S = 0.010


def placements(study: Study, span_s: tuple[float, float] | None = None) -> list[Placement]:
    """Every event of the song as joined, or of a span of it in s, with the place that the sheet's timing
    sends it to."""
    sheet = study.sheet
    wish = sheet.timing
    rules = [Rule(**r.model_dump()) for r in wish.rules]
    sounding = {s.take for s in laid_out(sheet)}
    others = [take_hits(sheet, t, study.hits_of) for t in sheet.takes if t.number not in sounding]
    first, last = span_s or (-np.inf, np.inf)
    return place_events(
        [h for h in played_hits(sheet, study.hits_of) if first <= h.time_s < last],
        study.grid,
        rules,
        Wish(wish.to_s, wish.lines, wish.kick_alone_ms),
        others,
    )


def edits(study: Study, span: tuple[int, int] | None = None) -> EditList | None:
    """The edit list of the sheet's timing, its sound in the ``span`` of samples only if one is
    given; None where nothing is to be moved."""
    if study.sheet.timing == type(study.sheet.timing)():
        return None
    placed = placements(study)
    return edit_list(placed, guides(study), study.rate, study.sheet.frames, span)


def guides(study: Study) -> Mapping[str, Guide]:
    """What splices are chosen on: close mics to one side, overheads and rooms to the other, each
    mic as loud as the next; for the kick moved alone its own mics."""
    close: list[tuple[Node, float, float]] = []
    kick: list[tuple[Node, float, float]] = []
    for mic in study.mics:
        name = parse_mic_name(mic)
        if name.role in OFF_KIT:
            continue
        gain = _evened(study, mic)
        node = study.joined(mic)
        ambience = name.role in AMBIENCE
        close.append((node, 0.0 if ambience else gain, gain if ambience else 0.0))
        if name.role in KICK_ROLES:
            kick.append((node, gain, 0.0))
    out = {ALL: _reading(study, Guiding(tuple(close)))}
    if kick:
        out[KICK] = _reading(study, Guiding(tuple(kick)))
    return out


def _reading(study: Study, node: Node) -> Guide:
    def read(start: int, stop: int) -> NDArray[np.float32]:
        return study.engine.read(node, start, stop)

    return read


def _evened(study: Study, mic: str) -> float:
    """The gain that brings a mic to −20 dBFS RMS."""
    rms = study.facts.measures.get(mic, {}).get("rms_dbfs")
    return db_to_amplitude(float(np.clip(-20.0 - rms, -20, 40))) if rms is not None else 1.0


def kick_alone_ms(study: Study) -> tuple[float, float]:
    """``(ms, dB)``: how far the kick's close mics may move alone, and how far under them the kick
    lies in overheads and rooms at its onset, measured on hits that fall alone, with the present
    balance. Under four such hits nothing is allowed."""
    known: tuple[float, float] = study.remember("kick alone", lambda: _measure_kick(study))
    return known


def _measure_kick(study: Study) -> tuple[float, float]:
    times = np.array([h.time_s for h in study.hits])
    alone = [
        h
        for h in study.hits_on("kick", ghosts=False)
        if np.sum(np.abs(times - h.time_s) < 0.06) == 1
    ][:60]
    close = [m for m in study.close("kick") if not study.sheet.mics[m].mute]
    far = [m for m in study.with_role("overhead", "room") if not study.sheet.mics[m].mute]
    if len(alone) < 4 or not close or not far:
        return 0.0, 0.0

    def onset_power(mics: list[str]) -> NDArray[np.float64]:
        total = np.zeros(len(alone))
        for mic in mics:
            gain = db_to_amplitude(study.sheet.mics[mic].fader_db)
            node = study.graph.mics[mic].placed
            for n, hit in enumerate(alone):
                at = round(hit.time_s * study.rate)
                # What reaches a far mic comes later; the window gives it time.
                span = round(ONSET_S * study.rate) * (1 if mic in close else 2)
                sound = study.engine.read(node, at, at + span) * gain
                total[n] += float(np.sum(np.square(sound, dtype=np.float64)))
        return total

    ratio = float(np.median(onset_power(far) / (onset_power(close) + 1e-20)))
    under = -amplitude_to_db(float(np.sqrt(ratio)))
    return round(unheard_ms(under), 1), round(under, 1)
