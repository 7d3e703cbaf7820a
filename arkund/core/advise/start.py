"""The first sheet of a song: everything as it came, the parallel bus wired but shut.

Nothing is changed that the engineer has not asked for; only what cannot be heard until it is
turned up is prepared (which shells feed the strike bus, and its squeeze).
"""

from arkund.core.kit.roles import parse_mic_name
from arkund.core.mix.channels import OFF_DB, Bus, Send, groups_for, new_mic
from arkund.core.mix.sheet import Section, Sheet, Take, Tempo
from arkund.core.process.compressor import Compressor

TOM_SEND_DB = -4.0
"""Toms go into the strike bus 3 to 6 dB lower, lest a fill pump the whole kit."""


def strike_bus(mics: list[str], typical_db: dict[str, float]) -> Bus:
    """Shells only, no sub mic, toms lower; 10:1, medium attack, quick release, shut.

    The threshold lies 12 dB under the loudest shell's typical hit, for 8 to 15 dB of reduction.
    """
    sends = {}
    for name in mics:
        role = parse_mic_name(name).role
        if role in ("kick_in", "kick_out", "snare_top", "snare_bottom", "tom"):
            sends[name] = Send(db=TOM_SEND_DB if role == "tom" else 0.0)
    levels = [typical_db[m] for m in sends if m in typical_db]
    threshold = max(min((max(levels) if levels else -10.0) - 15.0, -6.0), -50.0)
    squeeze = Compressor(
        on=True,
        threshold_db=round(threshold, 1),
        ratio=10,
        knee_db=6,
        attack_ms=20,
        release_ms=60,
    )
    return Bus(sends=sends, chain=(squeeze,), fader_db=OFF_DB)


def bloom_bus(mics: list[str]) -> Bus:
    """Everything but the kick, which would pump it: 8:1, fastest attack and release, shut."""
    skipped = ("kick_in", "kick_out", "kick_sub", "click", "bed", "other", "percussion")
    sends = {m: Send() for m in mics if parse_mic_name(m).role not in skipped}
    squeeze = Compressor(
        on=True, threshold_db=-30.0, ratio=8, knee_db=6, attack_ms=0.5, release_ms=40
    )
    return Bus(sends=sends, chain=(squeeze,), fader_db=OFF_DB)


def first_sheet(
    *,
    rate: int,
    frames: int,
    tempo: Tempo,
    sections: tuple[Section, ...],
    takes: tuple[Take, ...],
    files: dict[str, str],
    typical_db: dict[str, float],
) -> Sheet:
    """Sheet of a song as it came in; ``files`` maps each mic to its file's name."""
    mics = {name: new_mic(name, file) for name, file in files.items()}
    return Sheet(
        rate=rate,
        frames=frames,
        tempo=tempo,
        sections=sections,
        takes=takes,
        mics=mics,
        groups=groups_for(mics),
        buses={
            "strike": strike_bus(list(files), typical_db),
            "bloom": bloom_bus(list(files)),
        },
    )
