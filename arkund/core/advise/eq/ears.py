"""What all EQs come to: a mic's way to the mix as one curve, and what the kit spends between 1 and 5 kHz."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.advise.heard import spans_of
from arkund.core.advise.study import Study
from arkund.core.process.equaliser import Equaliser, equaliser_sections
from arkund.core.shape.biquad import response_db
from arkund.core.sheet.channels import DRUM_BUS, Channel
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet

HARSH_HZ = (1000.0, 5000.0)
BUDGET_DB = 3.0
"""More than so much makes a kit hard on the ear."""

OPPOSES_DB, NOTHING = 1.0, 1e-9
NET_HZ = np.geomspace(25, 18_000, 160)


@dataclass(frozen=True)
class Opposed:
    """A place where one channel on the way cuts and another boosts: Hz, and each with its dB."""

    hz: float
    cuts: tuple[str, float]
    boosts: tuple[str, float]


@dataclass(frozen=True)
class Net:
    """The EQs on a mic's way to the mix, in dB over `NET_HZ`: by channel, all together, and where they oppose."""

    by_channel: Mapping[str, NDArray[np.float64]]
    total: NDArray[np.float64]
    opposed: list[Opposed]


def channels_on_the_way(sheet: Sheet, mic: str) -> dict[str, Channel]:
    """A mic, its group where it has one, and the drum bus, by name."""
    group = sheet.groups.get(sheet.mics[mic].to)
    way: dict[str, Channel] = {mic: sheet.mics[mic]}
    if group is not None:
        way[sheet.mics[mic].to] = group
    return way | {DRUM_BUS: sheet.drum_bus}


def net_curve(sheet: Sheet, mic: str) -> Net:
    """Of the bands and filters that stand; what moves with level is left out."""
    curves = {
        name: sum_of_eqs(channel, NET_HZ, sheet.rate)
        for name, channel in channels_on_the_way(sheet, mic).items()
    }
    total = np.sum(list(curves.values()), axis=0)
    opposed = []
    names = list(curves)
    for n, first in enumerate(names):
        for second in names[n + 1 :]:
            for low, high in ((first, second), (second, first)):
                both = np.minimum(-curves[low], curves[high])
                at = int(both.argmax())
                if both[at] >= OPPOSES_DB:
                    cut, boost = float(curves[low][at]), float(curves[high][at])
                    opposed.append(Opposed(float(NET_HZ[at]), (low, cut), (high, boost)))
    return Net(curves, total, opposed)


def sum_of_eqs(channel: Channel, hz: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    """The active EQs of a channel in dB at ``hz`` ``(n,)``."""
    out = np.zeros(len(hz))
    for eq in channel.stages(Equaliser):
        if eq.on:
            out += response_db(equaliser_sections(eq, rate), hz, rate) + eq.output_db
    return out


@dataclass(frozen=True)
class Budget:
    """By how many dB the EQs of all mics and groups lift what is heard between 1 and 5 kHz, and each mic's share
    of that power (0 to 1), the largest first."""

    lifts_db: float
    shares: Mapping[str, float]


def boost_budget(study: Study) -> Budget:
    """Power of each mic in the mix, over the parts of the song that stand for it (`spans_of`), and what it would be
    without the boosts (cuts give nothing back)."""
    sheet, now, spent = study.sheet, 0.0, dict[str, float]()
    for mic in sounding_mics(sheet):
        if mic not in study.graph.outs:
            continue
        node = study.graph.outs[mic]
        sound = np.concatenate([study.engine.read(node, *span) for span in spans_of(study)])
        hz, power = scipy.signal.welch(sound, study.rate, nperseg=4096, axis=0)
        inside = (hz >= HARSH_HZ[0]) & (hz < HARSH_HZ[1])
        own = power[inside].sum(axis=1)
        gain = np.zeros(int(inside.sum()))
        for name, channel in channels_on_the_way(sheet, mic).items():
            if name != DRUM_BUS:
                gain += sum_of_eqs(channel, hz[inside], study.rate)
        now += float(own.sum())
        spent[mic] = float((own * (1 - 10 ** (-np.maximum(gain, 0) / 10))).sum())
    whole = sum(spent.values())
    if whole <= NOTHING * now:
        return Budget(0.0, {})
    shares = {mic: one / whole for mic, one in sorted(spent.items(), key=lambda s: -s[1]) if one}
    return Budget(float(10 * np.log10(now / (now - whole))), shares)
