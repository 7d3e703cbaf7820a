"""Level on a stored song: mics trimmed together, and the stage seen from the other seat."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from arkund.core.advise.level import trims
from arkund.core.advise.level.trims import carried
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label, piece_family
from arkund.core.measure.levels import peaks_over_time_db
from arkund.core.sheet.pairs import Stereo, other_side, pans_of, stereo_of
from arkund.core.sheet.sheet import Sheet
from arkund.songs import findings, revisions
from arkund.songs.models import Revision, Song
from arkund.songs.rendering import graph_of, sounding_engine
from arkund.songs.timing import sheet_of

STATION = "level"

MOST_GAIN_DB = 24.0
READING_S = 0.05
LOWEST_DB = -120.0


@dataclass(frozen=True)
class Reading:
    """Peaks of one node over a span, dBFS a step: a mic, group, layer or bus behind its fader."""

    node: str
    label: str
    part: str
    family: str
    peaks: list[float]

    @property
    def peak(self) -> float:
        """The largest of them."""
        return max(self.peaks, default=-120.0)


def readings(sheet: Sheet, start: int, stop: int) -> list[Reading]:
    """Peaks of everything that sounds, each `READING_S`, in the order of the signal."""
    graph, engine = graph_of(sheet), sounding_engine(sheet)
    parts = [
        *(
            ("mics", m, label(m), sheet.mics[m].name.piece or m, node)
            for m, node in graph.outs.items()
        ),
        *(
            ("layers", n, label(n), sheet.mics[sheet.layers[n].of].name.piece or "", node)
            for n, node in graph.layers.items()
        ),
        *(("groups", n, f"{n} mics", "", node) for n, node in graph.groups.items()),
        *(("returns", n, n, "", node) for n, node in graph.returns.items()),
        ("drums", "output", "drums", "", graph.output),
    ]
    out = []
    for part, name, words, piece, node in parts:
        sound = engine.read(node, start, stop)
        peaks = peaks_over_time_db(sound.reshape(len(sound), -1), sheet.rate, READING_S)
        levels = [round(max(p, LOWEST_DB), 1) for p in peaks.tolist()]
        out.append(Reading(name, words, part, piece_family(piece) if piece else "", levels))
    return out


def trim_together(
    song: Song, mics: Sequence[str], by_db: float, *, base: int | None = None
) -> Revision:
    """Mics trimmed by the same dB, so that their relation stays. Raises `ArkundError`."""
    song.refresh_from_db()
    sheet = sheet_of(song)
    if lost := [m for m in mics if m not in sheet.mics]:
        raise ArkundError(f"The song has no mic “{lost[0][:40]}”.")
    if not mics:
        raise ArkundError("Choose at least one mic to trim.")
    trims = {f"mics.{m}.trim_db": round(sheet.mics[m].trim_db + by_db, 2) for m in mics}
    patch = with_thresholds(sheet, trims)
    names = ", ".join(label(m) for m in mics)
    return _keep(song, patch, f"{names}: trim {by_db:+g} dB".replace("-", "−"), base)


def clip_gain(
    song: Song, mic: str, hit_id: str, gain_db: float, *, base: int | None = None
) -> Revision:
    """One hit of a mic turned up or down until the next; 0 dB leaves it as recorded. Raises
    `ArkundError`."""
    song.refresh_from_db()
    study = findings.study_of_song(song)
    if mic not in study.sheet.mics:
        raise ArkundError(f"The song has no mic “{mic[:40]}”.")
    hit = next((h for h in study.hits if h.id == hit_id), None)
    if hit is None:
        raise ArkundError("This hit is no longer in the list; reload the page.")
    if not -MOST_GAIN_DB <= gain_db <= MOST_GAIN_DB:
        raise ArkundError(f"A hit's gain lies between −{MOST_GAIN_DB:g} and {MOST_GAIN_DB:g} dB.")
    own = study.sheet.mics[mic].name.piece
    beside = [h.time_s for h in study.hits if own is None or h.piece == hit.piece]
    patch = trims.clip_gain(study, mic, *trims.hit_span(study, beside, hit.time_s), gain_db)
    where = f"{label(mic)}, {label(hit.piece)} in bar {study.bar_of(hit.time_s)}"
    said = f"{gain_db:+g} dB".replace("-", "−") if gain_db else "as recorded"
    return _keep(song, patch, f"{where}: {said}", base)


def gains_of(study: Study, mic: str, hits: Sequence[Hit]) -> list[float]:
    """The clip gain that each of the hits has in a mic, 0 without one."""
    gains = study.sheet.mics[mic].repair.clip_gains
    starts = [study.before_moves_s(h.time_s) * study.rate for h in hits]
    return [next((g.gain_db for g in gains if g.at <= at < g.at + g.frames), 0.0) for at in starts]


def with_thresholds(sheet: Sheet, patch: Mapping[str, Any]) -> dict[str, Any]:
    """A change with the thresholds behind each trim that it sets moved along, unless it sets them
    itself: what a gate and a compressor do stays as it is."""
    out = dict(patch)
    for path, value in patch.items():
        top, _, rest = path.partition(".")
        mic, _, what = rest.partition(".")
        is_number = isinstance(value, (int, float)) and not isinstance(value, bool)
        if top == "mics" and what == "trim_db" and mic in sheet.mics and is_number:
            moved = carried(sheet, mic, value - sheet.mics[mic].trim_db)
            out |= {p: v for p, v in moved.items() if p not in patch}
    return out


def mirror(song: Song, *, base: int | None = None) -> Revision:
    """Every mic panned to the other side: from the drummer's seat to the listener's, or back. Raises
    `ArkundError` where nothing is panned."""
    song.refresh_from_db()
    patch = {f"mics.{m}.pan": -s.pan for m, s in sheet_of(song).mics.items() if s.pan}
    if not patch:
        raise ArkundError("Nothing is panned: the stage is the same from both seats.")
    return _keep(song, patch, "Left and right swapped", base)


def spread_pair(
    song: Song,
    mic: str,
    *,
    width: float | None = None,
    balance: float | None = None,
    base: int | None = None,
) -> Revision:
    """Both sides of a pair panned: ``width`` 0 (one place) to 1 (hard left and right), ``balance``
    where their middle lies, −1 to 1; what is not said stays, and so does the seat. Raises
    `ArkundError`."""
    song.refresh_from_db()
    sheet = sheet_of(song)
    other = other_side(sheet, mic)
    if other is None:
        raise ArkundError(f"“{label(mic[:40])}” is no side of a pair.")
    left, right = (mic, other) if sheet.mics[mic].side == "l" else (other, mic)
    stands = stereo_of(sheet.mics[left].pan, sheet.mics[right].pan)
    wanted = Stereo(
        stands.width if width is None else width, stands.balance if balance is None else balance
    )
    if not 0 <= wanted.width <= 1 or not -1 <= wanted.balance <= 1:
        raise ArkundError("Width goes from 0 to 1, balance from −1 (left) to 1 (right).")
    seat = -1.0 if sheet.mics[left].pan > sheet.mics[right].pan else 1.0
    pans = pans_of(wanted, seat)
    patch = {f"mics.{m}.pan": pan for m, pan in zip((left, right), pans, strict=True)}
    side = "left" if wanted.balance < 0 else "right"
    lies = f"{abs(wanted.balance):.0%} {side}" if wanted.balance else "centred"
    words = f"{label(left).removesuffix(' L')}s {wanted.width:.0%} wide, {lies}"
    return _keep(song, patch, words, base)


def _keep(song: Song, patch: Mapping[str, Any], words: str, base: int | None) -> Revision:
    assert song.current is not None
    number = song.current.number if base is None else base
    return revisions.keep(song.pk, number, dict(patch), label=words, station=STATION)
