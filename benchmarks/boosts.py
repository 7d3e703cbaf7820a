"""``python -m benchmarks.boosts``: a treble boost that stands beside one that comes with a drum's hits alone, on worlds
left out.

Into each shell's nearest mic goes a bell of `BOOST_DB` at `HZ`; printed is by how much the drum's own hits and what
else the mic hears are louder there, for both kinds of band.
"""

import argparse
import tempfile
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from arkund.core.advise.eq.bands import Place, band_patch
from arkund.core.advise.eq.by_hits import Lift, by_hits_patch, lift
from arkund.core.process.equaliser import Equaliser
from arkund.core.sheet.channels import stage_path
from arkund.core.simulate.studying import study_of
from benchmarks.punch import as_session
from benchmarks.worlds.drawn import LEFT_OUT, recorded, worlds
from benchmarks.worlds.world import World

BOOST_DB, HZ, Q = 4.5, 4000.0, 1.0
LEAST_HITS = 6
ALLOWED_DB = 1.0
"""A band on hits may lift bleed by so much."""


@dataclass(frozen=True)
class Boosted:
    """One mic of one world: what a boost that stands and one on hits lift there."""

    where: str
    stands: Lift
    by_hits: Lift


def boosted(world: World) -> list[Boosted]:
    """Each shell's nearest mic in a world, where the drum is hit often enough."""
    out = []
    with tempfile.TemporaryDirectory() as scratch:
        study = study_of([as_session(recorded(world), world.name)], Path(scratch))
        for piece in study.shells:
            mic = study.close(piece)[0]
            eq = study.sheet.mics[mic].first(Equaliser)
            if eq is None or len(study.plain_times(mic)) < LEAST_HITS:
                continue
            place = Place(2, f"{stage_path(f'mics.{mic}', eq)}.bands.b3")
            patch = band_patch(place, HZ, BOOST_DB, Q)
            moved = by_hits_patch(study, mic, place, patch)
            out.append(
                Boosted(
                    f"{mic}, {world.name}", lift(study, mic, patch, HZ), lift(study, mic, moved, HZ)
                )
            )
    return out


def table(rows: Sequence[Boosted]) -> str:
    """Medians and the worst, both kinds of band side by side."""
    worst = max(rows, key=lambda r: r.by_hits.bleed_db)
    within = sum(r.by_hits.bleed_db <= ALLOWED_DB for r in rows)

    def median(values: Sequence[float]) -> str:
        return f"{np.median(values):+.1f} dB"

    return "\n".join(
        [
            "| band | its hits, median | bleed, median | bleed, worst |",
            "|---|---|---|---|",
            f"| stands | {median([r.stands.hits_db for r in rows])} | "
            f"{median([r.stands.bleed_db for r in rows])} | {max(r.stands.bleed_db for r in rows):+.1f} dB |",
            f"| on hits | {median([r.by_hits.hits_db for r in rows])} | "
            f"{median([r.by_hits.bleed_db for r in rows])} | {worst.by_hits.bleed_db:+.1f} dB, {worst.where} |",
            "",
            f"Bleed lifted by {ALLOWED_DB:g} dB or less on hits: {within} of {len(rows)} mics.",
        ]
    )


def main() -> None:
    """Measure worlds and print the table."""
    parser = argparse.ArgumentParser(prog="benchmarks.boosts", description=__doc__)
    parser.add_argument("--count", type=int, default=24)
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    rows: list[Boosted] = []
    with ProcessPoolExecutor(2) as pool:
        for found in pool.map(boosted, worlds(LEFT_OUT, args.seed, args.count)):
            rows += found
    print(table(rows))


if __name__ == "__main__":
    main()
