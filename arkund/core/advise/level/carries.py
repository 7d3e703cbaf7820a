"""Level: who carries each piece, who owns the low end, and which mics add nothing."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from arkund.core.advise.eq.high_pass import cutoff_hz
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell, label, parse_mic_name, piece_family, sort_pieces
from arkund.core.measure.carries import BANDS_HZ, Carried, carried, low_power, low_spectrum
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.process.cascade import Filter
from arkund.core.process.equaliser import Equaliser, equaliser_sections
from arkund.core.shape.biquad import response_db
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import power_to_db

NAME = "low_end"
ALONE_S = 0.06
FEWEST = 3
COMPETES = 0.12
"""A share of the low end from which a mic of another drum than its owner's is a matter."""

LEAST_TAKEN_DB = 1.0
"""A high-pass that takes less off a mic's low end settles nothing."""

LITTLE_DB = 0.3
"""A mic without which no piece changes by more adds nothing."""

STANDS_OUT = 0.25
"""A mic of another drum that carries so much of a piece is named with what would help."""


@dataclass(frozen=True)
class LowEnd:
    """Shares (0 to 1) of what lies below 120 Hz, by mic (the bed included) and by the piece that
    they are close to (far mics by their role); and the ``owner``: the shell whose mics carry most of it,
    or the bed. What overheads and rooms hear down there is a shell's."""

    by_mic: Mapping[str, float]
    by_owner: Mapping[str, float]
    owner: str


def carries(study: Study) -> dict[str, Carried]:
    """By piece, for pieces that are struck a few times."""
    found: dict[str, Carried] = study.remember("carries", lambda: _carries(study))
    return found


def _carries(study: Study) -> dict[str, Carried]:
    outs = {
        m: study.engine.read(study.graph.outs[m], 0, study.sheet.frames)
        for m in sounding_mics(study.sheet)
        if m in study.graph.outs
    }
    out = {}
    for piece in sort_pieces(h.piece for h in study.hits):
        found = carried(outs, study.rate, alone(study, piece))
        if found is not None and found.hits >= FEWEST:
            out[piece] = found
    return out


def alone(study: Study, piece: str) -> list[float]:
    """The piece's hits that no other falls upon; where there are few, those with most room."""
    own = np.array([h.time_s for h in study.hits_on(piece, ghosts=False)])
    others = np.array([h.time_s for h in study.hits if h.piece != piece])
    if not len(own) or not len(others):
        return [float(t) for t in own]
    room = np.min(np.abs(own[:, None] - others[None, :]), axis=1)
    alone = own[room > ALONE_S]
    if len(alone) < 8:
        alone = own[np.argsort(-room, kind="stable")][:8]
    return [float(t) for t in np.sort(alone)]


def low_end(study: Study) -> LowEnd | None:
    """Of all that sounds, the bed too; None where there is nothing."""
    found: LowEnd | None = study.remember("low end", lambda: _low_end(study))
    return found


def _low_end(study: Study) -> LowEnd | None:
    nodes = {m: study.graph.outs[m] for m in sounding_mics(study.sheet) if m in study.graph.outs}
    nodes |= {name: node for name, node in study.graph.beside.items() if name == "bed"}
    powers = {
        name: low_power(study.engine.read(node, 0, study.sheet.frames), study.rate)
        for name, node in nodes.items()
    }
    whole = sum(powers.values())
    if whole < 1e-12:
        return None
    by_mic = {name: round(p / whole, 4) for name, p in powers.items()}
    by_owner: dict[str, float] = {}
    for name, share in by_mic.items():
        owner = owner_of(name)
        by_owner[owner] = round(by_owner.get(owner, 0.0) + share, 4)
    sources = [o for o in by_owner if is_shell(o) or o == "bed"] or list(by_owner)
    return LowEnd(by_mic, by_owner, max(sources, key=lambda o: by_owner[o]))


def owner_of(name: str) -> str:
    """The piece that a mic is close to; far mics by their role, the bed by its name."""
    mic = parse_mic_name(name)
    return mic.piece or mic.role


def adds_little(study: Study) -> list[str]:
    """Mics without which every piece stays as it is, in every band."""
    found = carries(study)
    mics = {m for c in found.values() for m in c.share}
    return sorted(
        m
        for m in mics
        if all(abs(db) <= LITTLE_DB for c in found.values() for db in c.without_db.get(m, ()))
    )


def remedies(study: Study, school: School) -> list[tuple[str, str, str]]:
    """``(piece, source, words)`` where much of a piece's upper bands comes through mics of another
    drum or through far ones: the hat that is everywhere, the snare that leaps out. Overheads are
    there for the kit unless the school keeps them for the cymbals."""
    out = []
    for piece, found in carries(study).items():
        if piece_family(piece) in ("crash", "ride", "cymbal"):
            continue
        by_source: dict[str, float] = {}
        for mic, bands in found.share.items():
            source = owner_of(mic)
            by_source[source] = by_source.get(source, 0.0) + max(bands[2:])
        for source, share in sorted(by_source.items(), key=lambda one: -one[1]):
            is_kit = source == "overhead" and (school.overheads != "cymbals" or piece == "hat")
            if share >= STANDS_OUT and source != piece and not is_kit:
                out.append((piece, source, _remedy(study, piece, source, share)))
    return out


def _remedy(study: Study, piece: str, source: str, share: float) -> str:
    through = f"{share:.0%} of the {label(piece)}'s upper bands come through"
    close = study.close(source)
    if close:
        is_gated = all(study.sheet.mics[m].clean.on for m in close)
        what = "A lower range of the gate" if is_gated else "A gate on hits"
        many = "s" if len(close) > 1 else ""
        return f"{through} the {label(source)} mic{many}. {what} removes it (Clean)."
    return f"{through} the {source}s. A duck on them that hears the {label(piece)} holds it back (Shape)."


def mono_loss_lu(study: Study) -> float:
    """What the whole song loses in loudness where both sides are folded to one."""

    def measure() -> float:
        mix = study.engine.read(study.graph.output, 0, study.sheet.frames)
        folded = np.repeat(mix.mean(axis=1, keepdims=True), 2, axis=1).astype(np.float32)
        return loudness_lufs(folded, study.rate) - loudness_lufs(mix, study.rate)

    return round(float(study.remember("mono", measure)), 2)


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """Mics that compete with the owner of the low end."""
    return [f for mic in sounding_mics(study.sheet) for f in find_competing(study, mic, school)]


def find_competing(study: Study, mic: str, school: School) -> list[Finding]:
    """A mic that competes with the owner of the low end, and the high-pass that settles it."""
    found = low_end(study)
    if found is None or owner_of(mic) == found.owner or found.by_mic.get(mic, 0.0) < COMPETES:
        return []
    eq = study.sheet.mics[mic].first(Equaliser)
    if eq is None or any(e.on and e.high_pass.on for e in study.sheet.mics[mic].stages(Equaliser)):
        return []
    share, cutoff = found.by_mic[mic], round(cutoff_hz(study, mic, school)[0])
    held = _taken_db(study, mic, cutoff)
    if -held < LEAST_TAKEN_DB:
        return []
    path = f"{stage_path(f'mics.{mic}', eq)}.high_pass"
    return [
        Finding(
            NAME,
            "competes",
            mic,
            spoken(
                f"{label(mic)} carries {share:.0%} of the low end below 120 Hz; its owner, "
                f"{label(found.owner)}, has {found.by_owner[found.owner]:.0%}. A high-pass at "
                f"{cutoff} Hz on {label(mic)} removes {-held:.1f} dB there."
            ),
            {"share": share, "owner": found.owner, "owner_share": found.by_owner[found.owner]},
            0.55,
            {f"{path}.on": True, f"{path}.frequency_hz": float(cutoff), f"{path}.slope_db_oct": 12},
            {"low_share_db": Change(0.0, round(held, 1))},
            mic=mic,
        )
    ]


def _taken_db(study: Study, mic: str, cutoff: float) -> float:
    """What a high-pass does to the mic's own low end in the mix, in dB."""
    wanted = Equaliser(high_pass=Filter(on=True, frequency_hz=cutoff, slope_db_oct=12))
    sound = study.engine.read(study.graph.outs[mic], 0, study.sheet.frames)
    power, hz = low_spectrum(sound, study.rate)
    shape = response_db(equaliser_sections(wanted, study.rate), hz, study.rate)
    kept = float(np.sum(power * 10 ** (shape / 10))) / max(float(power.sum()), 1e-20)
    return power_to_db(kept)


def described(study: Study, school: School) -> dict[str, object]:
    """All of it as data."""
    low = low_end(study)
    return {
        "bands_hz": [[round(a), round(b)] for a, b in BANDS_HZ],
        "pieces": {
            piece: {
                "hits": c.hits,
                "side": c.side,
                "mono_db": c.mono_db,
                "mics": {
                    m: {"share": list(c.share[m]), "without_db": list(c.without_db[m])}
                    for m in c.share
                },
            }
            for piece, c in carries(study).items()
        },
        "low_end": low
        and {
            "owner": low.owner,
            "by_owner": dict(low.by_owner),
            "by_mic": dict(low.by_mic),
            "competing": [
                m for m, s in low.by_mic.items() if s >= COMPETES and owner_of(m) != low.owner
            ],
        },
        "mono_loss_lu": mono_loss_lu(study),
        "adds_little": adds_little(study),
        "remedies": [{"piece": p, "through": m, "words": w} for p, m, w in remedies(study, school)],
    }


def _reads(sheet: Sheet, subject: str) -> list[object]:
    return [sheet.mics, sheet.groups, sheet.buses, sheet.over]


MODULE = Module(NAME, "level", 1, lambda sheet: ["kit"], _reads, find, for_the_ear=True)
