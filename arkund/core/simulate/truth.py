"""The ground truth of a simulated take: arrivals, pairs, and the faults that were planted."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.kit.roles import close_mics, is_shell, parse_mic_name
from arkund.core.measure.levels import clipped_runs
from arkund.core.simulate.kit import Part
from arkund.core.simulate.plants import Score
from arkund.core.simulate.preset import Preset
from arkund.core.simulate.room import arrival_samples, direct_gain


def truth_of(
    name: str,
    seed: int,
    preset: Preset,
    bars: int,
    score: Score,
    parts: list[Part],
    sounds: dict[str, NDArray[np.float32]],
    frames: int,
    take: int,
) -> dict[str, Any]:
    """What truth.json says of one take; see docs/formats.md."""
    heard = _Arrivals(preset, parts)
    hits = sorted(_hits(heard, score), key=lambda h: float(h["time_s"]))
    sections = _sections(preset, bars)
    return {
        "preset": name,
        "seed": seed,
        "title": preset.title,
        "tempo_bpm": preset.bpm,
        "meter": "4/4",
        "rate": preset.rate,
        "frames": frames,
        "first_downbeat_s": preset.lead_in_s,
        "bars": bars,
        "sections": sections,
        "mics": [{"mic": m, "file": preset.files[m]} for m in heard.mics],
        "hits": hits,
        "pairs": _pairs(heard),
        "takes": [{"take": take, "hits": hits}],
        "faults": [
            *_faults_of_mics(heard, score, sounds, take),
            *_faults_of_drums(preset),
            *_faults_of_playing(preset, score, sections, hits, take),
        ],
    }


class _Arrivals:
    """When and which way up each piece reaches each mic."""

    def __init__(self, preset: Preset, parts: list[Part]) -> None:
        self.preset = preset
        self.mics = {m.name: m for m in preset.mics}
        self.pieces = {
            p: [part for part in parts if part.piece == p and not part.answers]
            for p in preset.kit.pieces
        }

    def samples(self, piece: str, mic: str) -> float:
        """How many samples after it sounds a piece reaches a mic."""
        return arrival_samples(self._first(piece, mic), self.mics[mic], self.preset.rate)

    def sign(self, piece: str, mic: str) -> float:
        """Positive where a piece pushes the mic as it moves, negative where it pulls."""
        return direct_gain(self._first(piece, mic), self.mics[mic])

    def nearest(self, piece: str) -> str:
        """The piece's own mic that hears it first; any mic where it has none."""
        return min(
            close_mics(self.mics, piece) or self.mics, key=lambda mic: self.samples(piece, mic)
        )

    def _first(self, piece: str, mic: str) -> Part:
        return min(
            self.pieces[piece],
            key=lambda part: arrival_samples(part, self.mics[mic], self.preset.rate),
        )


def _hits(heard: _Arrivals, score: Score) -> list[dict[str, Any]]:
    """What was played, at the time at which the nearest mic hears it."""
    delay_s = {p: heard.samples(p, heard.nearest(p)) / heard.preset.rate for p in heard.pieces}
    return [
        {
            "piece": s.piece,
            "time_s": round(s.time_s + delay_s[s.piece], 7),
            "velocity": s.velocity,
            "kind": "plain" if s.kind == "open" else s.kind,
        }
        for s in score.hits
    ]


def _pairs(heard: _Arrivals) -> list[dict[str, Any]]:
    """Delay and polarity of each piece's mics against its first, the overheads, and the rooms."""
    out = []
    overheads = [m for m in heard.mics if m.startswith("overhead")]
    for piece in heard.pieces:
        close = close_mics(heard.mics, piece)
        wanted = [(m, close[0]) for m in close[1:]] + [(c, o) for c in close for o in overheads]
        if is_shell(piece) and close:
            wanted += [(m, close[0]) for m in heard.mics if parse_mic_name(m).role == "room"]
        for mic, reference in wanted:
            late = heard.samples(piece, mic) - heard.samples(piece, reference)
            sign = heard.sign(piece, mic) * heard.sign(piece, reference)
            out.append(
                {
                    "piece": piece,
                    "mic": mic,
                    "reference": reference,
                    "delay_samples": round(late, 3),
                    "polarity": 1 if sign > 0 else -1,
                }
            )
    return out


def _sections(preset: Preset, bars: int) -> list[dict[str, Any]]:
    """The chart's sections as far as the song goes."""
    out, bar = [], 1
    for section in preset.chart:
        if bar <= bars:
            length = min(section.bars, bars - bar + 1)
            out.append({"name": section.name, "start_bar": bar, "bars": length})
        bar += section.bars
    return out


def _fault(fault: str, finding: str, subject: str, **more: Any) -> dict[str, Any]:
    """A planted fault with the finding that it requires: its kind and its subject."""
    return {"fault": fault, "finding": finding, "subject": subject, **more}


def _faults_of_mics(
    heard: _Arrivals, score: Score, sounds: dict[str, NDArray[np.float32]], take: int
) -> list[dict[str, Any]]:
    """What is wrong with a mic, its cable or its place."""
    mics, plants = heard.mics, heard.preset.plants
    out = []
    if "snare_bottom" in mics:
        out.append(_fault("inverted", "align.polarity", "snare_bottom"))
    for mic in mics.values():
        if mic.inverted:
            out.append(_fault("inverted", "align.polarity", mic.name))
        level = np.abs(sounds[mic.name])
        is_wild = score.wild is not None and mic.name in close_mics(mics, score.wild.piece)
        if float(level.max()) > 10 ** (-3 / 20) and not is_wild:
            out.append(_fault("hot", "level.headroom", mic.name))
        runs = clipped_runs(level, heard.preset.rate)
        if runs and mic.name in plants.clipped:
            out.append(_fault("clipped", "load-in.clipped", mic.name, runs=len(runs), take=take))
    for name, (hz, dbfs) in (plants.hum or {}).items():
        out.append(_fault("hum", "load-in.hum", name, hz=hz, dbfs=dbfs))
    for name, offset in (plants.dc or {}).items():
        out.append(_fault("dc", "load-in.dc", name, offset=offset))
    if {"kick_in", "kick_out"} <= set(mics):
        late = heard.samples("kick", "kick_out") - heard.samples("kick", "kick_in")
        out.append(
            _fault("early", "align.delay", "kick_in", against="kick_out", samples=round(late, 2))
        )
    return out


def _faults_of_drums(preset: Preset) -> list[dict[str, Any]]:
    """What rings on a drum, and what sings with another."""
    out = []
    for drum in preset.kit.drums:
        for hz, seconds, _ in drum.rings:
            out.append(_fault("ring", "eq.ring", drum.piece, hz=round(hz, 1), t60_s=seconds))
        if drum.sings is not None:
            out.append(
                _fault(
                    "sings",
                    "clean.sympathy",
                    drum.piece,
                    by=drum.sings.by,
                    hz=round(drum.fundamental_hz, 1),
                    t60_s=drum.sings.t60_s,
                )
            )
    return out


def _faults_of_playing(
    preset: Preset,
    score: Score,
    sections: list[dict[str, Any]],
    listed: list[dict[str, Any]],
    take: int,
) -> list[dict[str, Any]]:
    """What went wrong while playing: a wild hit, flams, a drop-out, another cymbal."""
    out = []
    if score.wild is not None:
        out.append(
            _fault(
                "wild",
                "level.wild",
                score.wild.piece,
                take=take,
                over_db=score.wild.gain_db,
                time_s=round(score.wild.time_s, 4),
            )
        )
    bar_s = 240 / preset.bpm
    for bar, ms in sorted(_apart(listed, preset, bar_s).items()):
        planted = any(bar == b for b, _ in score.apart)
        out.append(_fault("apart", "edit.apart", f"bar {bar}", take=take, ms=ms, planted=planted))
    if score.dropped is not None:
        bar = int((score.dropped.time_s + 0.02 - preset.lead_in_s) / bar_s) + 1
        out.append(
            _fault("dropped", "edit.dropped", f"take {take}", bar=bar, piece=score.dropped.piece)
        )
    plan = next(t for t in preset.takes if t.number == take)
    if plan.rides and plan.rides[0] < len(sections):
        section = sections[plan.rides[0]]
        out.append(
            _fault(
                "rides",
                "edit.cymbal",
                f"take {take}",
                section=section["name"],
                start_bar=section["start_bar"],
                cymbal=plan.rides[2],
            )
        )
    return out


def _apart(listed: list[dict[str, Any]], preset: Preset, bar_s: float) -> dict[int, float]:
    """Bars in which kick and snare within 30 ms are heard 8 ms or more apart, planted or played:
    how much later the kick comes, in ms."""
    own = [h for h in listed if h["kind"] != "ghost"]
    kicks = np.array([h["time_s"] for h in own if h["piece"] == "kick"])
    out: dict[int, float] = {}
    for h in own:
        if h["piece"] != "snare" or len(kicks) == 0:
            continue
        gap = float((kicks - h["time_s"])[np.argmin(np.abs(kicks - h["time_s"]))])
        bar = int((h["time_s"] + 0.03 - preset.lead_in_s) / bar_s) + 1
        if 0.008 <= abs(gap) <= 0.03 and abs(gap * 1000) > abs(out.get(bar, 0.0)):
            out[bar] = round(gap * 1000, 2)
    return out
