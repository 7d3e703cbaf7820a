"""Replace on a stored song: harvest, layers, sub layers, even hits."""

import re
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf

from arkund.core.advise.replace import layers, uneven
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.graph.hits import played_hits
from arkund.core.kit.roles import label
from arkund.core.replace.harvest import bands
from arkund.core.replace.matching import matches
from arkund.core.sheet.layers import SampleLayer
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.tempo import grid_of
from arkund.songs import copies, findings, kits, revisions, stock, storage
from arkund.songs.models import Revision, Song

STATION = "replace"
MOST_MATCHES = 8
LONGEST_S = 4.0
WHERE = {"under": "under", "instead": "instead of"}


def harvest(song: Song, piece: str, folder: Path | None = None) -> dict[str, Any]:
    """Candidates of a piece, ranked; with ``folder`` those of the sample set are written there as
    32-bit float WAV. Raises `ArkundError`."""
    study = findings.study_of_song(song)
    found = layers.harvest(study, piece)
    mic = layers.followed(study, piece)
    rows = [layers.described(c, study.rate) for c in found]
    files = []
    if folder is not None:
        folder.mkdir(parents=True, exist_ok=True)
        sound = study.sound(mic, "clean")
        chosen = bands([c for c in found if c.hit.kind != "ghost"])
        for number, one in enumerate(chosen, 1):
            # Names from figures alone: no text of a song becomes part of a path.
            target = (
                folder
                / f"{re.sub(r'[^a-z0-9_]', '', piece)}_{number:02d}_v{one.hit.velocity:03d}.wav"
            )
            part = target.with_name(target.name + ".part")
            sf.write(
                str(part),
                np.array(sound[one.at : one.at + one.frames]),
                study.rate,
                subtype="FLOAT",
                format="WAV",
            )
            part.replace(target)
            files.append(str(target))
    return {
        "piece": piece,
        "mic": mic,
        "hits": len(study.hits_on(piece)),
        "candidates": rows,
        "files": files,
    }


def layer(
    song: Song,
    piece: str,
    source: str = "song",
    mode: str = "under",
    hits: str = "accents",
    blend_db: float | None = None,
    *,
    base: int | None = None,
) -> Revision:
    """A new layer as a revision: of the song's own hits (``source`` *song*), of the simulated kit's
    (*simulated*), of a set in the stock (*stock:NAME*), or of the samples in a folder, a one-shot
    recording or an SFZ kit at that path. Raises `ArkundError`."""
    blend = layers.BLEND_DB if blend_db is None else blend_db
    study = findings.study_of_song(song)
    if source == "song":
        patch = layers.layer_patch(study, piece, mode=mode, hits=hits, blend_db=blend)
        return _keep(song, patch, f"Layer {WHERE[mode]} {label(piece)}", base)
    if not source.strip():
        raise ArkundError("Say which file or folder the samples are in.")
    unknown: list[str] = []
    called = Path(source).name
    if source == "simulated":
        kit, called = stock.simulated_kit(piece, study), "the simulated kit"
    elif source.startswith(stock.PREFIX):
        called = source.removeprefix(stock.PREFIX)
        kit = stock.kit_of_set(called, study)
    else:
        kit, unknown = kits.kit_from(Path(source), piece, study)
    patch = layers.kit_patch(
        study,
        piece,
        kits.store(kit, study.rate),
        kit.samples,
        mode=mode,
        hits=hits,
        blend_db=blend,
    )
    return _keep(
        song,
        patch,
        f"Layer from {called[:60]} {WHERE[mode]} {label(piece)}",
        base,
        kits.described(unknown),
    )


def sub(
    song: Song,
    piece: str,
    note: str = "auto",
    hits: str = "all",
    blend_db: float | None = None,
    crossover: str = "off",
    *,
    base: int | None = None,
) -> Revision:
    """A new sub layer of a piece as a revision; its ``crossover`` *off*, *auto* or a frequency."""
    blend = layers.SUB_DB if blend_db is None else blend_db
    study = findings.study_of_song(song)
    patch = layers.sub_patch(
        study, piece, note=note, hits=hits, blend_db=blend, crossover=crossover
    )
    return _keep(song, patch, f"Sub layer under {label(piece)}", base)


def trim_sample(
    song: Song,
    layer: str,
    number: int,
    *,
    length_ms: float | None = None,
    fade_in_ms: float | None = None,
    fade_out_ms: float | None = None,
    base: int | None = None,
) -> Revision:
    """One sample of a layer, counted from 1, cut to a length from its hit on and faded otherwise;
    what is not said stays. Its source stays as it is. Raises `ArkundError`."""
    study = findings.study_of_song(song)
    found = study.sheet.layers.get(layer)
    if not isinstance(found, SampleLayer):
        raise ArkundError(f"There is no layer of samples “{layer[:48]}”.")
    if not 1 <= number <= len(found.samples):
        raise ArkundError(f"The layer has samples 1 to {len(found.samples)}; {number} is none.")
    patch = layers.trimmed_patch(
        study,
        layer,
        number - 1,
        length_ms=length_ms,
        fade_in_ms=fade_in_ms,
        fade_out_ms=fade_out_ms,
        room=_room(study, found, number - 1),
    )
    return _keep(song, patch, f"Sample {number} of {label(layer)} trimmed", base)


def _room(study: Study, layer: SampleLayer, index: int) -> int:
    """How many samples one may be long: in a kit file up to the next, in the song 4 s or its end."""
    one = layer.samples[index]
    if layer.source is None:
        begins = {h.id: h.time_s for h in study.hits}
        left = study.sheet.frames - round(begins.get(one.hit or "", 0.0) * study.rate)
        return min(left, round(LONGEST_S * study.rate))
    ends = [s.at for s in layer.samples if s.at is not None and s.at > (one.at or 0)]
    with sf.SoundFile(str(storage.sound_path(layer.source))) as file:
        return int(min([*ends, file.frames]) - (one.at or 0))


def even(song: Song, piece: str, amount: float) -> Revision:
    """Even hits of a piece as a revision."""
    patch = uneven.even_patch(findings.study_of_song(song), piece, amount)
    return _keep(song, patch, f"Even hits of {label(piece)} by {amount:.0%}", None)


def stand_ins(song: Song, hit_id: str) -> dict[str, Any]:
    """The hits that can stand in for one, the best first, with the reasons. Raises
    `ArkundError` for a hit that is not there."""
    assert song.current is not None
    sheet = song.current.sheet
    played = played_hits(sheet, storage.load_hits)
    target = next((h for h in played if h.id == hit_id), None)
    if target is None:
        raise ArkundError(f"There is no hit “{hit_id[:48]}” in the song; `arkund hits` lists them.")
    place = grid_of(sheet).place
    return {
        "hit": target.id,
        "piece": target.piece,
        "kind": target.kind,
        "place": place(target.time_s),
        "matches": [
            {
                "hit": m.hit.id,
                "place": place(m.hit.time_s),
                "velocity": m.hit.velocity,
                "distance": m.distance,
                "reasons": list(m.reasons),
            }
            for m in matches(target, played)[:MOST_MATCHES]
        ],
    }


def patch_hit(song: Song, hit_id: str, with_id: str = "", *, base: int | None = None) -> Revision:
    """A bad hit replaced in all mics, by the best match or the hit that is said."""
    song.refresh_from_db()
    found = stand_ins(song, hit_id)
    chosen = with_id or next((m["hit"] for m in found["matches"]), "")
    if not chosen:
        raise ArkundError(f"No other hit of {label(found['piece'])} can stand in for that one.")
    assert song.current is not None
    return copies.copy_hit(song, song.current.number if base is None else base, chosen, hit_id)


def _keep(song: Song, patch: Patch, words: str, base: int | None, reason: str = "") -> Revision:
    song.refresh_from_db()
    assert song.current is not None
    number = song.current.number if base is None else base
    return revisions.keep(song.pk, number, patch, label=words, station=STATION, reason=reason)
