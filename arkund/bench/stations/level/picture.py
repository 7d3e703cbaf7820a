"""Level: for each mic the spread of its hit peaks after trim."""

from typing import Any

import numpy as np

from arkund.bench.drawing import Bars, bars_of, rounded
from arkund.core.advise.level.trims import ZONE_DBFS
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.levels import hit_peaks
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db
from arkund.songs import findings
from arkund.songs.facts import hits_for, mic_files
from arkund.songs.levelling import gains_of
from arkund.songs.models import Song
from arkund.songs.rendering import engine_for, graph_of


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    engine, graph = engine_for(sheet), graph_of(sheet)
    target = ZONE_DBFS[findings.school_of_song(song).trim]
    measured = {f.mic: f.measures for f in mic_files(sheet)}
    rows = []
    for name in sounding_mics(sheet):
        onsets = [h.time_s for h in hits_for(sheet, name)]
        # As repaired: a wild hit that was brought down is shown where it is now.
        sound = engine.read(graph.mics[name].repaired, 0, sheet.frames)
        peaks = amplitudes_to_db(hit_peaks(sound, sheet.rate, onsets[:400]))
        trim = sheet.mics[name].trim_db
        piece = parse_mic_name(name).piece
        typical = measured.get(name, {}).get("typical_hit_dbfs", -20.0)
        rows.append(
            {
                "mic": name,
                "label": label(name),
                "chosen": name == mic,
                "family": piece_family(piece) if piece else "ambience",
                "peaks": rounded(peaks + trim, 1),
                "typical": round(typical + trim, 1),
                "loudest": round(measured.get(name, {}).get("loudest_hit_dbfs", typical) + trim, 1),
                "fader": sheet.mics[name].fader_db,
                "mute": sheet.mics[name].mute,
            }
        )
    own = next(r for r in rows if r["mic"] == mic)
    trim = sheet.mics[mic].trim_db
    wanted = round(float(np.clip(np.mean(target) - (own["typical"] - trim), -24, 24)), 1)
    # The ruler's axis is trim: a hit of p dBFS comes to the target at target - p.
    raw = np.array(own["peaks"]) - trim
    study = findings.study_of_song(song)
    hits = hits_for(sheet, mic)[:400]
    return {
        "rows": rows,
        "hits": [
            {"id": h.id, "bar": study.bar_of(h.time_s), "piece": label(h.piece), "gain_db": gain}
            for h, gain in zip(hits, gains_of(study, mic, hits), strict=True)
        ],
        "target": target,
        "rulers": {
            f"mics.{mic}.trim_db": {
                "bars": bars_of(float(np.mean(target)) - raw, -24, 24, 48, "own"),
                "proposed": wanted,
                "note": f"typical hit {own['typical']:+.1f} dBFS after trim".replace("-", "−"),
            }
        },
    }
