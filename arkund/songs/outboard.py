"""Outboard: a channel is written with pings, processed elsewhere, brought back in place, and laid into its own lane."""

from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.audio.files import examine
from arkund.core.errors import ArkundError, AudioRefused
from arkund.core.exchange import outboard
from arkund.core.exchange.outboard import DRIFT_PPM, Returned
from arkund.core.kit.roles import MicName, label
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.simulate.box import Box, through
from arkund.songs import rendering, revisions, set_up, storage
from arkund.songs.incoming import Incoming
from arkund.songs.models import Revision, Sending, Song

BOXES = {"simulated": Box()}
"""Boxes that ship with the application."""

LEVEL_DB = 0.1
"""A return is trimmed to what was sent where it is louder or softer by more."""

MOST_TRIM_DB = 24.0
Progress = Callable[[float, str], None]


@dataclass(frozen=True)
class Brought:
    """A return that was laid in: the ``lanes`` it plays in, what was ``found`` of its box, by how much it was louder
    than what was sent (``louder_db``), ``remarks`` in sentences, and the revision."""

    lanes: tuple[str, ...]
    found: Returned
    louder_db: float
    remarks: tuple[str, ...]
    revision: Revision

    def as_dict(self) -> dict[str, Any]:
        """As plain data."""
        return {
            "lanes": list(self.lanes),
            **asdict(self.found),
            "louder_db": self.louder_db,
            "remarks": list(self.remarks),
            "revision": self.revision.number,
        }


def nodes_of(sheet: Sheet) -> dict[str, str]:
    """What can be sent, by name, with the words for it: mics before their fader, groups and buses behind it."""
    return {
        **{m: label(m) for m in sounding_mics(sheet) if sheet.mics[m].role != "return"},
        **{g: f"{g} group" for g in sheet.groups},
        **{b: f"{b} bus" for b in sheet.buses},
    }


def send(
    song: Song, node: str, path: Path, progress: Progress = lambda share, what: None
) -> Sending:
    """Write a node of the whole song as it is now, with its pings, as 24-bit WAV. Raises `ArkundError`."""
    assert song.current is not None
    revision = song.current
    progress(0.1, f"rendering {node}")
    sound = _rendered(revision.sheet, node)
    written, gain_db = outboard.sent(sound, revision.sheet.rate)
    progress(0.8, "writing")
    part = path.with_name(f"{path.name}.part")
    sf.write(str(part), written, revision.sheet.rate, subtype="PCM_24", format="WAV")
    part.replace(path)
    return Sending.objects.create(
        song=song, revision=revision, node=node, sides=sound.shape[1], gain_db=gain_db
    )


def _rendered(sheet: Sheet, node: str) -> NDArray[np.float32]:
    if node not in nodes_of(sheet):
        raise ArkundError(f"“{node[:40]}” cannot be sent. These can: {', '.join(nodes_of(sheet))}.")
    engine = rendering.exact_engine(sheet)
    sound = rendering.render_span(sheet, node, "now", 0, sheet.frames, "", engine)
    if not np.any(sound):
        raise ArkundError(f"{label(node).capitalize()} is silent: unmute it or bring its fader up.")
    return sound


def bring_back(
    song: Song,
    base: int,
    sending: Sending,
    path: Path,
    name: str,
    *,
    instead: bool = True,
    progress: Progress = lambda share, what: None,
) -> Brought:
    """Lay a return in: measured by its pings, put in place, brought to the level of what was sent, as a lane of its
    own; ``instead`` of its source, which is muted, or beside it.

    Raises `ArkundError` where the file is no return of that sending, `Conflict` where the song was changed meanwhile.
    """
    sent_sheet = sending.revision.sheet
    progress(0.05, "reading the return")
    returned = _read(path, name, sending, sent_sheet.rate)
    found = outboard.measured(returned, sent_sheet.frames, sent_sheet.rate)
    progress(0.2, "bringing it back in place")
    sound = outboard.brought_back(
        returned, found, sent_sheet.frames, sent_sheet.rate, sending.gain_db
    )
    progress(0.4, "comparing it with what was sent")
    source = _rendered(sent_sheet, sending.node)
    louder = loudness_lufs(sound, sent_sheet.rate) - loudness_lufs(source, sent_sheet.rate)
    louder = round(float(np.clip(louder, -MOST_TRIM_DB, MOST_TRIM_DB)), 2)
    lane = _free_lane(song)
    with TemporaryDirectory(dir=storage.data_folder()) as kept:
        file = Path(kept) / f"{lane}.wav"
        sf.write(str(file), sound, sent_sheet.rate, subtype="FLOAT")
        incoming = Incoming(file, f"{label(lane)} ({sending.node}).wav", lane, _take(song), "mono")
        made = set_up.correct(
            song,
            base,
            set_up.Wanted(files=(incoming,)),
            lambda share, what: progress(0.5 + 0.4 * share, what),
        )
    progress(0.95, "setting its lane")
    lanes = tuple(m for m in made.sheet.mics if m == lane or m in (f"{lane}_l", f"{lane}_r"))
    remarks = _remarks(found, louder, sent_sheet.rate)
    patch = _placed(made.sheet, lanes, sending.node, instead)
    if abs(louder) > LEVEL_DB:
        patch |= {f"mics.{one}.trim_db": -louder for one in lanes}
    if patch:
        made = revisions.keep(
            song.pk,
            made.number,
            patch,
            station="print",
            label=f"{label(lane)} plays {'instead of' if instead else 'beside'} {sending.node}",
            reason=" ".join(remarks),
        )
    progress(1.0, "the return is in its lane")
    return Brought(lanes, found, louder, remarks, made)


def through_box(
    song: Song,
    node: str,
    box: Box,
    *,
    instead: bool = True,
    progress: Progress = lambda share, what: None,
) -> Brought:
    """The whole round trip through a simulated box. Raises `ArkundError`."""
    with TemporaryDirectory(dir=storage.data_folder()) as kept:
        there, back = Path(kept) / "sent.wav", Path(kept) / "returned.wav"
        sending = send(song, node, there, lambda share, what: progress(0.3 * share, what))
        sound, rate = sf.read(str(there), dtype="float32", always_2d=True)
        sf.write(str(back), through(box, sound, rate), rate, subtype="PCM_24")
        return bring_back(
            song,
            sending.revision.number,
            sending,
            back,
            "from the simulated box.wav",
            instead=instead,
            progress=lambda share, what: progress(0.3 + 0.7 * share, what),
        )


def _read(path: Path, name: str, sending: Sending, rate: int) -> NDArray[np.float32]:
    """A returned file; of a stereo return of a mono sending the left side, of a mono one of a stereo sending both."""
    facts = examine(path, name)
    if facts.rate != rate:
        raise AudioRefused(
            name,
            f"comes back at {facts.rate / 1000:g} kHz and was sent at {rate / 1000:g} kHz.",
            f"Record the return at {rate / 1000:g} kHz.",
        )
    sound, _ = sf.read(str(path), dtype="float32", always_2d=True)
    if sound.shape[1] > 2 or (sound.shape[1] == 1 and sending.sides == 2):
        raise AudioRefused(
            name,
            f"has {sound.shape[1]} channel{'s' if sound.shape[1] > 1 else ''}, what was sent had {sending.sides}.",
            "Record the return with as many.",
        )
    return np.ascontiguousarray(sound[:, : sending.sides])


def _take(song: Song) -> int:
    assert song.current is not None
    return song.current.sheet.take.number


def _free_lane(song: Song) -> str:
    """A name for the next return."""
    assert song.current is not None
    taken = {mic.index or 1 for mic in song.current.sheet.mics.values() if mic.role == "return"}
    return str(MicName("return", next(n for n in range(1, 100) if n not in taken)))


def _placed(sheet: Sheet, lanes: tuple[str, ...], node: str, instead: bool) -> dict[str, Any]:
    """The patch that lets a return sound where its source did; ``instead`` mutes that."""
    patch: dict[str, Any] = {}
    table = next(t for t in ("mics", "groups", "buses") if node in getattr(sheet, t))
    if table == "mics":
        source = sheet.mics[node]
        for lane in lanes:
            patch |= {
                f"mics.{lane}.to": source.to,
                f"mics.{lane}.fader_db": source.fader_db,
                f"mics.{lane}.pan": source.pan,
            }
            if instead:
                patch |= {
                    f"buses.{name}.sends.{lane}": bus.sends[node].model_dump(mode="json")
                    | {"by_hits": False, "untreated": False}
                    for name, bus in sheet.buses.items()
                    if node in bus.sends
                }
    if instead:
        patch[f"{table}.{node}.mute"] = True
    return patch


def _remarks(found: Returned, louder: float, rate: int) -> tuple[str, ...]:
    """What was found of a return, in sentences."""
    late_ms = 1000 * found.late_samples / rate
    said = [
        f"The return was {found.late_samples:.1f} samples ({late_ms:.2f} ms) late and "
        f"{abs(found.gain_db):.1f} dB {'louder' if found.gain_db > 0 else 'softer'} at the pings; both are undone."
    ]
    if found.polarity < 0:
        said.append("It came back with its polarity flipped; it is flipped back.")
    if abs(found.drift_ppm) >= DRIFT_PPM:
        said.append(
            f"Its clock drifts by {found.drift_ppm:+.1f} ppm; the return is resampled to the song's."
        )
    if abs(louder) > LEVEL_DB:
        way = "louder" if louder > 0 else "softer"
        said.append(f"The box makes it {abs(louder):.1f} LU {way}; the lane's trim undoes that.")
    if found.clipped_runs:
        said.append(
            f"It clips in {found.clipped_runs} place{'s' if found.clipped_runs > 1 else ''}: "
            "lower the box's output and record it again."
        )
    if found.noise_dbfs > -60:
        said.append(f"Its noise is at {found.noise_dbfs:.0f} dBFS: check levels and cabling.")
    return tuple(said)
