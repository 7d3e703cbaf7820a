"""Level: who carries each piece, by band, and who owns the low end."""

from typing import Any

from arkund.core.advise.level.carries import (
    LITTLE_DB,
    adds_little,
    carries,
    low_end,
    mono_loss_lu,
    remedies,
)
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.carries import BANDS_HZ
from arkund.songs import findings
from arkund.songs.models import Song

WORTH_SAYING = 0.03
LOST_IN_MONO_DB = -3.5
"""Two sides that have nothing in common lose 3 dB; what loses more cancels."""

NAMES = ("25–120 Hz", "120–500 Hz", "500 Hz–2 kHz", "2–16 kHz")
FAR = {"overhead": "overheads", "room": "rooms", "crush": "crush mic", "bed": "bed"}


def picture(song: Song) -> dict[str, Any]:
    """Of the song as it stands."""
    study, school = findings.study_of_song(song), findings.school_of_song(song)
    found, low = carries(study), low_end(study)
    mics = [m for m in study.mics if any(m in c.share for c in found.values())]
    rows = [
        {
            "piece": piece,
            "label": label(piece),
            "family": _family(piece),
            "hits": c.hits,
            "side": c.side,
            "mono_db": c.mono_db,
            "share": [list(c.share[m]) for m in mics],
            "without_db": [list(c.without_db[m]) for m in mics],
        }
        for piece, c in found.items()
    ]
    said = [words for _, _, words in remedies(study, school)]
    said += [
        f"{-c.mono_db:.1f} dB of the {label(piece)} are lost in mono."
        for piece, c in found.items()
        if c.mono_db < LOST_IN_MONO_DB
    ]
    if few := adds_little(study):
        names = " or ".join(label(m) for m in few)
        said.append(
            f"No piece changes by more than {LITTLE_DB} dB without {names}. What adds nothing "
            "may be left out."
        )
    return {
        "bands": NAMES[: len(BANDS_HZ)],
        "mics": [
            {"mic": m, "label": label(m), "family": _family(parse_mic_name(m).piece or "")}
            for m in mics
        ],
        "pieces": rows,
        "mono_loss_lu": mono_loss_lu(study),
        "low_end": _low_end(low.by_owner, low.owner) if low else [],
        "said": said,
    }


def _low_end(shares: Any, owner: str) -> list[dict[str, Any]]:
    """Shares of the low end, the largest first; what is small together."""
    ordered = sorted(shares.items(), key=lambda one: -one[1])
    named = [
        {"label": FAR.get(o, label(o)), "family": _family(o), "share": s, "owns": o == owner}
        for o, s in ordered
        if s >= WORTH_SAYING
    ]
    rest = 1.0 - sum(one["share"] for one in named)
    return [
        *named,
        {"label": "others", "family": "ambience", "share": round(rest, 4), "owns": False},
    ]


def _family(piece: str) -> str:
    family = piece_family(piece)
    return (
        family
        if family in ("kick", "snare", "tom")
        else "metal"
        if piece and piece not in FAR
        else "ambience"
    )
