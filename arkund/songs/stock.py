"""The stock: single hits that are kept under a name and go from song to song."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf
import soxr
from django.db import IntegrityError, transaction
from numpy.typing import NDArray

from arkund.core.advise.replace import layers as advice
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import label, piece_family
from arkund.core.replace.harvest import bands
from arkund.core.replace.kit import Kit, kit_of
from arkund.core.simulate.single import single_hits
from arkund.songs import findings, kits, locks, storage
from arkund.songs.models import SampleSet, Song

LONGEST_NAME = 60
MOST = 500


def listed(piece: str = "") -> list[dict[str, Any]]:
    """All sets, or those of a piece's family."""
    return [
        {"name": one.name, "piece": one.piece, "samples": len(one.samples), "origin": one.origin}
        for one in SampleSet.objects.all()
        if not piece or piece_family(one.piece) == piece_family(piece)
    ]


def keep_own(song: Song, piece: str, name: str) -> SampleSet:
    """Keep a song's own hits of a piece: those that stand alone, from soft to loud. Raises
    `ArkundError`."""
    study = findings.study_of_song(song)
    mic = advice.followed(study, piece)
    sound = study.sound(mic, "clean")
    chosen = bands([c for c in advice.harvest(study, piece) if c.hit.kind != "ghost"])
    if not chosen:
        raise ArkundError(f"No hit of {label(piece)} stands alone long enough to be a sample.")
    kit = kit_of([np.array(sound[c.at : c.at + c.frames]) for c in chosen], study.rate)
    return _keep(
        kit,
        piece,
        name or f"{label(piece)}, {song.name}",
        study.rate,
        f"{label(mic)} of {song.name}",
    )


def keep_files(
    song: Song, piece: str, path: Path, name: str, origin: str = ""
) -> tuple[SampleSet, str]:
    """Keep the samples in a folder, a one-shot recording or an SFZ kit for a piece, and what was not
    read of it, in a sentence. Raises `ArkundError`."""
    study = findings.study_of_song(song)
    kit, unknown = kits.kit_from(path, piece, study, origin)
    made = _keep(kit, piece, name or path.stem, study.rate, origin or path.name)
    return made, kits.described(unknown)


def remove(name: str) -> None:
    """Take a set out of the stock; layers that use its hits keep them. Raises `ArkundError`."""
    named(name).delete()


def named(name: str) -> SampleSet:
    """The set of that name. Raises `ArkundError`."""
    found = SampleSet.objects.filter(name=name).first()
    if found is None:
        raise ArkundError(
            f"There is no set “{name[:LONGEST_NAME]}” in the stock; `arkund stock` lists all."
        )
    return found


def kit_of_set(name: str, study: Study) -> Kit:
    """A set of the stock at a song's rate. Raises `ArkundError`."""
    found = named(name)
    path = storage.find_sound(found.sound)
    if path is None:
        raise ArkundError(
            f"The sound of “{found.name}” is missing; remove it from the stock and keep it again."
        )
    sound = sf.read(str(path), dtype="float32")[0]
    return kit_of(
        [_at_rate(sound[at : at + n], found.rate, study.rate) for at, n in found.samples],
        study.rate,
    )


def simulated_kit(piece: str, study: Study) -> Kit:
    """Hits of the simulated kit at a song's rate. Raises `ArkundError`."""
    hits, rate = single_hits(piece)
    return kit_of([_at_rate(s, rate, study.rate) for s in hits], study.rate)


def _at_rate(sound: NDArray[np.float32], rate: int, wanted: int) -> NDArray[np.float32]:
    if rate == wanted:
        return sound
    return np.asarray(soxr.resample(sound, rate, wanted, "VHQ"), np.float32)


def _keep(kit: Kit, piece: str, name: str, rate: int, origin: str) -> SampleSet:
    name = " ".join("".join(c if c.isprintable() else " " for c in name).split())[:LONGEST_NAME]
    if not name:
        raise ArkundError("A set in the stock needs a name.")
    if SampleSet.objects.count() >= MOST:
        raise ArkundError(f"The stock holds {MOST} sets; remove some first.")
    with locks.storing():
        digest = kits.store(kit, rate)
        try:
            with transaction.atomic():
                return SampleSet.objects.create(
                    name=name,
                    piece=piece,
                    sound=digest,
                    rate=rate,
                    origin=origin[:200],
                    samples=[list(s) for s in kit.samples],
                )
        except IntegrityError:
            raise ArkundError(
                f"There is a set “{name}” in the stock already; choose another name."
            ) from None


def sources(piece: str) -> Sequence[tuple[str, str]]:
    """What a layer of a piece can be made from: value and words."""
    own = [("song", "its own hits"), ("simulated", "the simulated kit")]
    return [*own, *((f"{PREFIX}{one['name']}", f"{one['name']} (stock)") for one in listed(piece))]


PREFIX = "stock:"
