"""Bus, parallel: what each return is for; squeezed by this song's hits and gaps, and blended in.

A return is dialled on what feeds it: the threshold for so much reduction on the typical hit, the
attack so long that the kit's own attack comes through, the release back before the next hit. What
it does to the mix is measured; one that is to give low end and gives none is not proposed.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, get_args

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.bus.density import dialled
from arkund.core.advise.excerpt import Excerpt
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.goal import GOALS, KICK_LOW_LEVEL
from arkund.core.advise.heard import gap_ms, heard, heard_times, shell_times
from arkund.core.advise.level.trims import typical_dbfs
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.nodes import Node
from arkund.core.kit.roles import Role, parse_mic_name
from arkund.core.measure.carries import low_power
from arkund.core.measure.hits import mean_envelope_db
from arkund.core.measure.levels import hit_peaks
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.process.band import Band
from arkund.core.process.cascade import Filter
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.registry import AnyStage
from arkund.core.process.saturation import Saturation
from arkund.core.process.stage import Stage
from arkund.core.process.transient import Transient
from arkund.core.shape.sides import louder_side
from arkund.core.sheet.channels import Bus, Send, stage_path
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.upgrade import RENAMED
from arkund.core.units import SILENCE_DB, amplitudes_to_db, power_to_db

NAME = "bus"

TOM_SEND_DB = -4.0
"""Toms go in 3 to 6 dB lower, lest a fill pump the whole kit."""

NOT_DRUMS = ("click", "bed", "other", "percussion", "return")
KICKS = ("kick_in", "kick_out", "kick_sub")


@dataclass(frozen=True)
class Return:
    """What a parallel bus is for, the roles whose mics feed it with their sends in dB, and its chain.

    ``aim_db`` is the reduction on the typical hit of what feeds it (``families``, all shells where
    none are named), ``under_db`` by goal how far the return lies under the mix: in loudness, or below
    120 Hz where it is for those (``is_low``). ``is_timed`` says that attack and release follow the
    song; else they are the fastest."""

    what_for: str
    sends: Mapping[str, float]
    chain: tuple[AnyStage, ...]
    aim_db: float
    under_db: Mapping[str, float]
    families: tuple[str, ...] = ()
    is_timed: bool = False
    is_low: bool = False

    def bus(self, mics: Sequence[str]) -> Bus:
        """The bus for a kit's mics, shut."""
        roles = {mic: parse_mic_name(mic).role for mic in mics}
        sends = {m: Send(db=self.sends[r]) for m, r in roles.items() if r in self.sends}
        return Bus(sends=sends, chain=self.chain, fader_db=OFF_DB)


RETURNS: dict[str, Return] = {
    "strike": Return(
        "body behind the shells",
        {
            "kick_in": 0.0,
            "kick_out": 0.0,
            "snare_top": 0.0,
            "snare_bottom": 0.0,
            "tom": TOM_SEND_DB,
        },
        (
            Compressor(
                on=True, threshold_db=-25.0, ratio=10, knee_db=6, attack_ms=20, release_ms=60
            ),
        ),
        11.0,
        {"punch": 8.0, "punch_size": 10.0, "size": 12.0},
        is_timed=True,
    ),
    # The kick would pump it.
    "bloom": Return(
        "length behind the whole kit",
        {role: 0.0 for role in get_args(Role) if role not in (*KICKS, *NOT_DRUMS)},
        (
            Compressor(
                on=True, threshold_db=-30.0, ratio=8, knee_db=6, attack_ms=0.5, release_ms=40
            ),
        ),
        15.0,
        {"punch": 13.0, "punch_size": 13.0, "size": 11.0},
    ),
    "weight": Return(
        "low end under kick and toms",
        {**dict.fromkeys(KICKS, 0.0), "tom": TOM_SEND_DB},
        (
            Equaliser(
                low_pass=Filter(on=True, frequency_hz=160, slope_db_oct=12),
                bands=(
                    Band(id="b1", on=True, kind="low_shelf", frequency_hz=80, gain_db=4.0, q=0.7),
                ),
            ),
            Compressor(
                on=True, threshold_db=-25.0, ratio=8, knee_db=6, attack_ms=10, release_ms=80
            ),
            Transient(sustain_db=-6.0),
        ),
        8.0,
        {"punch": 9.0, "punch_size": 11.0},
        families=("kick", "tom"),
        is_timed=True,
        is_low=True,
    ),
    "grit": Return(
        "dirt from the crush mic",
        {"crush": 0.0},
        (
            Equaliser(high_pass=Filter(on=True, frequency_hz=150), bands=()),
            Saturation(drive_db=15.0),
            Compressor(
                on=True, threshold_db=-30.0, ratio=20, knee_db=3, attack_ms=0.5, release_ms=60
            ),
        ),
        12.0,
        {"punch": 16.0},
    ),
}

PREPARED = ("strike", "bloom")
"""Those that every song comes with, shut; the others are added where they are wanted."""

WANTED: dict[str, tuple[str, ...]] = {
    "strike_bloom": ("strike", "bloom", "weight", "grit"),
    "strike": ("strike", "weight"),
    "glue": (),
}

LEAST_UNDER_HITS_DB = 6.0
"""A return's hits peak at least so much under the dry ones."""

LEAST_LOW_DB = 0.3
"""Low end that a return for it must give at least."""

ATTACK_MS, ATTACK_OVER_DB = (10.0, 30.0), 6.0
"""Ends of the attack; the kit's own is over where the typical hit has fallen by so much."""

RELEASE_MS = (30.0, 150.0)


def find(study: Study, bus: str, school: School) -> list[Finding]:
    """How a bus is dialled and blended in, where the school wants it."""
    kind = RENAMED.get(bus, bus)
    if kind not in WANTED[school.parallel] or school.goal not in RETURNS[kind].under_db:
        return []
    settings = study.sheet.buses.get(bus)
    if settings is None:
        settings = RETURNS[kind].bus(study.mics)
        if _stands(study.sheet, settings):
            return []
    if not settings.sends or settings.fader_db > OFF_DB or settings.mute:
        return []
    if RETURNS[kind].is_low and not _lacks_low_end(study, school):
        return []
    return _blend(study, bus, settings, RETURNS[kind], school)


def _stands(sheet: Sheet, wanted: Bus) -> bool:
    """Whether a bus with the same sends and kinds of stages is there, under whatever name."""

    def build_of(bus: Bus) -> tuple[set[str], list[type[Stage]]]:
        return set(bus.sends), [type(stage) for stage in bus.chain]

    return any(build_of(bus) == build_of(wanted) for bus in sheet.buses.values())


def _lacks_low_end(study: Study, school: School) -> bool:
    """Whether the kick has less low end than as recorded, both at equal loudness."""
    part = Excerpt(study, GOALS[school.goal])
    now = part.wanted(part.card(study, is_beside=True))
    return any(f.name == KICK_LOW_LEVEL and f.gained < 0 for f in now)


@dataclass(frozen=True)
class _Dialled:
    """A return with its squeeze set: the change of the sheet for a blend, and what it comes to."""

    bus: str
    settings: Bus
    squeeze: Compressor
    set_names: Sequence[str]
    reduction_db: float
    is_there: bool

    def patch(self, fader_db: float) -> dict[str, Any]:
        """Its values in place and blended in at ``fader_db``; the whole bus where there is none yet."""
        path = f"buses.{self.bus}"
        if self.is_there:
            stage = stage_path(path, self.squeeze)
            changed = {f"{stage}.{k}": getattr(self.squeeze, k) for k in self.set_names}
            return {**changed, f"{path}.fader_db": fader_db}
        chain = tuple(self.squeeze if s.id == self.squeeze.id else s for s in self.settings.chain)
        made = self.settings.model_copy(update={"chain": chain, "fader_db": fader_db})
        return {path: made.model_dump()}


def _dialled(study: Study, bus: str, settings: Bus, wanted: Return) -> _Dialled | None:
    """The squeeze for what feeds the bus; None where it has no compressor or nothing feeds it."""
    stage, is_there = settings.first(Compressor), bus in study.sheet.buses
    if stage is None:
        return None
    there = study if is_there else study.tried({f"buses.{bus}": settings.model_dump()})
    feed = heard(there, there.graph.chains[bus].before(stage.id))
    if not float(np.abs(feed).max(initial=0.0)):
        return None
    times = heard_times(study, wanted.families)
    names = ["on", "threshold_db"]
    if wanted.is_timed:
        gap = gap_ms(shell_times(study, wanted.families), 25)
        stage = stage.model_copy(update=_times(feed, study.rate, times, gap))
        names += ["attack_ms", "release_ms"]
    squeeze, reduction = dialled(study, feed, stage, wanted.aim_db, times)
    return _Dialled(bus, settings, squeeze, names, reduction, is_there)


def _blend(study: Study, bus: str, settings: Bus, wanted: Return, school: School) -> list[Finding]:
    """The return blended in so far under the mix as the school wants, if it does what it is for."""
    made = _dialled(study, bus, settings, wanted)
    if made is None:
        return []
    at_unity = study.tried(made.patch(0.0))
    end = at_unity.graph.chains[bus].end
    # All returns stand against the same mix.
    dry: float = study.remember(
        ("sum", wanted.is_low), lambda: _level(study, study.graph.sum, wanted.is_low)
    )
    wet = _level(at_unity, end, wanted.is_low)
    if SILENCE_DB in (dry, wet):
        return []
    # What the attack lets through must not become the mix's peaks.
    held: float = study.remember("sum's hits", lambda: _hits_dbfs(study, study.graph.sum))
    held -= LEAST_UNDER_HITS_DB + _hits_dbfs(at_unity, end)
    blend = min(dry - wanted.under_db[school.goal] - wet, held)
    blend = round(float(np.clip(blend, -60, 12)) * 2) / 2
    under, more = dry - wet - blend, ""
    if wanted.is_low:
        then = study.tried(made.patch(blend))
        gained = _level(then, then.graph.sum, wanted.is_low) - dry
        if gained < LEAST_LOW_DB:
            return []
        more = f" It gives {gained:+.1f} dB below 120 Hz."
    where = "dB under the mix below 120 Hz" if wanted.is_low else "LU under the mix"
    reduction = made.reduction_db
    return [
        Finding(
            NAME,
            "blend",
            bus,
            spoken(
                f"The {bus} bus adds {wanted.what_for}: {reduction:.1f} dB of reduction, blended "
                f"{under:.0f} {where} (blend {blend:+.1f} dB)."
                f"{_said(made.squeeze, wanted)}{more}"
            ),
            {
                "reduction_db": round(reduction, 1),
                "mix": round(dry, 1),
                "return_at_unity": round(wet, 1),
            },
            0.75,
            made.patch(blend),
            {
                "reduction_db": Change(0.0, round(reduction, 1)),
                "return_under_mix": Change(0.0, round(under, 1)),
            },
            row="parallel",
            school=school.name,
        )
    ]


def _said(squeeze: Compressor, wanted: Return) -> str:
    if not wanted.is_timed:
        return ""
    return (
        f" {squeeze.attack_ms:.0f} ms of attack lets each hit's own attack through; "
        f"{squeeze.release_ms:.0f} ms of release fits the gaps between them."
    )


def _times(
    feed: NDArray[np.float32], rate: int, times: Sequence[float], gap: float
) -> dict[str, float]:
    """Attack and release in ms for the typical hit of what feeds a bus, and the gap in ms between
    hits."""
    if not len(times):
        return {}
    level = louder_side(feed)
    envelope = mean_envelope_db(level, rate, times, 0.06, 60)
    peak = int(np.argmax(envelope[:30]))
    over = np.flatnonzero(envelope[peak:] < envelope[peak] - ATTACK_OVER_DB)
    ends = float(peak + over[0]) if len(over) else ATTACK_MS[1]
    # To 63 % in a third of the gap is back to a twentieth before the next hit.
    release = gap / 3
    return {
        "attack_ms": float(round(np.clip(ends, *ATTACK_MS))),
        "release_ms": float(round(np.clip(release, *RELEASE_MS))),
    }


def _level(study: Study, node: Node, is_low: bool) -> float:
    """Loudness of a stereo node in LUFS, or its level below 120 Hz in dBFS."""
    sound, rate = heard(study, node), study.rate
    return power_to_db(low_power(sound, rate)) if is_low else loudness_lufs(sound, rate)


def _hits_dbfs(study: Study, node: Node) -> float:
    """The typical shell hit's peak at a stereo node."""
    mono = louder_side(heard(study, node))
    times = heard_times(study)
    return typical_dbfs(amplitudes_to_db(hit_peaks(mono, study.rate, times))) if times else 0.0


def _subjects(sheet: Sheet) -> list[str]:
    # One of the prepared that is not there was taken out or renamed by a hand.
    added = (name for name in RETURNS if name not in (*PREPARED, *sheet.buses))
    return [*sheet.buses, *added]


def _reads(sheet: Sheet, bus: str) -> list[object]:
    return [sheet.mics, sheet.groups, sheet.buses, sheet.drum_bus, sheet.over]


MODULE = Module(NAME, "bus", 5, _subjects, _reads, find)
