"""The first sheet of a song: everything as it came, the parallel bus wired but shut.

Nothing is changed that the engineer has not asked for; only what cannot be heard until it is
turned up is prepared (which shells feed the strike bus, and its squeeze).
"""

from collections.abc import Mapping

from arkund.core.advise.bus.parallel import PREPARED, RETURNS
from arkund.core.process.compressor import Compressor
from arkund.core.sheet.channels import Bus, groups_for, new_mic
from arkund.core.sheet.sheet import Section, Sheet, Take
from arkund.core.sheet.tempo import Tempo

UNDER_HITS_DB = 15.0
"""So far under the loudest shell's typical hit the strike bus's threshold lies."""


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
        buses={name: _prepared(name, list(files), typical_db) for name in PREPARED},
    )


def _prepared(name: str, mics: list[str], typical_db: Mapping[str, float]) -> Bus:
    bus = RETURNS[name].bus(mics)
    squeeze = bus.first(Compressor)
    levels = [typical_db[m] for m in bus.sends if m in typical_db]
    if name != "strike" or squeeze is None or not levels:
        return bus
    threshold = round(min(max(max(levels) - UNDER_HITS_DB, -50.0), -6.0), 1)
    return bus.model_copy(
        update={"chain": (squeeze.model_copy(update={"threshold_db": threshold}),)}
    )
