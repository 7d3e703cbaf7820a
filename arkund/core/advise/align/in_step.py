"""How far apart two mics of one drum hear it, and what their low end adds up to, as recorded and now."""

from contextlib import suppress

from arkund.core.advise.goal import Figure
from arkund.core.advise.study import Study
from arkund.core.align.bodies import farthest_samples
from arkund.core.align.pairs import Pair
from arkund.core.align.sums import Together
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.landmarks import roomy
from arkund.core.units import samples_to_ms

IN_STEP_SAMPLES = 5.0
"""Mics no farther apart are in step, however near they were as recorded."""

LOW_BAND = {"snare": 1}
"""Which of `sums.BANDS_HZ` holds a drum's low end, by family; of others the lowest."""

LOST_DB = -0.5
ALONE_S = 0.12


def pair_figures(study: Study) -> list[Figure]:
    """For each sure pair of a drum's close mics the lag in ms and the sum of the low end in dB, with what
    may come of them: no farther apart than recorded (or in step), and no thinner."""
    out = []
    for pair in study.facts.pairs:
        piece = parse_mic_name(pair.mic).piece
        if piece is None or not _is_judged(study, pair, piece):
            continue
        called = f"{label(pair.mic)} and {label(pair.reference).removeprefix(f'{label(piece)} ')}"
        lags = abs(pair.delay_samples), abs(pair.delay_samples + _moved(study, pair))
        most = max(IN_STEP_SAMPLES - lags[0], 0.0)
        then, now, room = (samples_to_ms(n, study.rate) for n in (*lags, most))
        out.append(Figure(f"{called} apart", "ms", then, now, most=room))
        out += _low_end(study, pair, piece, called)
    return out


def _is_judged(study: Study, pair: Pair, piece: str) -> bool:
    """Whether both mics are close to this drum and in use, and the lag between them is known."""
    is_inside = parse_mic_name(pair.reference).piece == piece and pair.piece == piece
    heard = all(m in study.sheet.mics and not study.sheet.mics[m].mute for m in _both(pair))
    far = farthest_samples(piece, study.rate)
    return is_inside and heard and pair.sure and abs(pair.delay_samples) <= far


def _both(pair: Pair) -> tuple[str, str]:
    return pair.mic, pair.reference


def _moved(study: Study, pair: Pair) -> float:
    """By how many samples the mic was shifted against its reference since it was recorded."""
    mic, reference = (study.sheet.mics[m].delay_samples for m in _both(pair))
    return mic - reference


def _low_end(study: Study, pair: Pair, piece: str, called: str) -> list[Figure]:
    times = roomy([h.time_s for h in study.hits_on(piece, ghosts=False)], ALONE_S)
    mic, reference = (study.sound(m, "repaired") for m in _both(pair))
    sign = 1
    for m in _both(pair):
        sign *= study.sheet.mics[m].polarity
    band = LOW_BAND.get(piece_family(piece), 0)
    with suppress(ValueError):  # no hit with room around it, or silence
        both = Together(mic, reference, study.rate, times)
        then, now = both.levels_db(), both.levels_db(_moved(study, pair), sign)
        return [Figure(f"{called}, low end together", "dB", then[band], now[band], LOST_DB)]
    return []
