"""What is played: parts drawn at random from families, not from a list.

A part is a list of hits with what falls together, how dense it is, and how often a piece is hit,
drawn anew for each seed. Families are left out whole when worlds are reported on.
"""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from arkund.core.simulate.drummer import ChartSection, Feel, PlayedHit, perform
from benchmarks.recorded.patterns import LEAD_IN_S

Part = list[PlayedHit]
Rng = np.random.Generator
Steps = dict[str, str]
TOMS = ("tom_1", "tom_2", "tom_3")
BARS = 12


def _row(rng: Rng, steps: int, share: float, symbol: str = "x") -> list[str]:
    return [symbol if rng.random() < share else "." for _ in range(steps)]


def _every(steps: int, each: int, first: int = 0) -> list[str]:
    return ["x" if n % each == first else "." for n in range(steps)]


def feel(rng: Rng) -> Feel:
    late = {p: float(rng.uniform(-6, 7)) for p in ("snare", "hat", "kick", "ride", *TOMS)}
    return Feel(
        float(rng.uniform(1.5, 5)), float(rng.uniform(1.5, 4)), late, float(rng.uniform(0.8, 1.1))
    )


def joined(rows: dict[str, list[str]]) -> Steps:
    return {piece: "".join(row) for piece, row in rows.items()}


def _play(
    rng: Rng, bpm: float, rows: dict[str, list[str]], fill: Steps | None = None, crash: float = 0.0
) -> Part:
    steps = joined(rows)
    first = {"crash_1": "X" + "." * (len(steps["kick"]) - 1)} if rng.random() < crash else None
    chart = [ChartSection("part", 4, steps, fill, first) for _ in range(BARS // 4)]
    return perform(chart, bpm, feel(rng), LEAD_IN_S, rng)


def fill(rng: Rng, steps: int) -> Steps:
    """The second half of a bar over snare and toms, any number of each."""
    rows = {piece: ["."] * steps for piece in ("snare", *TOMS)}
    for n in range(steps // 2, steps):
        if rng.random() < 0.8:
            rows[str(rng.choice(["snare", *TOMS]))][n] = str(rng.choice(["x", "X"]))
    return joined(rows)


def beat(rng: Rng, steps: int = 16, ghosts: float | None = None) -> dict[str, list[str]]:
    """Kick anywhere, snare on two and four, ghosts between, something on top."""
    quarter = steps // 4
    kick = _row(rng, steps, float(rng.uniform(0.1, 0.35)))
    kick[0] = "X"
    snare = _row(rng, steps, float(rng.uniform(0, 0.25)) if ghosts is None else ghosts, "g")
    snare[quarter] = snare[3 * quarter] = "X"
    top = str(rng.choice(["hat", "hat", "ride"]))
    each = int(rng.choice([1, 2, 2, quarter])) if steps == 16 else int(rng.choice([1, 3]))
    return {"kick": kick, "snare": snare, top: _every(steps, each)}


def backbeat(rng: Rng) -> Part:
    """A beat with ghosts, fills and crashes."""
    return _play(rng, float(rng.uniform(75, 150)), beat(rng), fill(rng, 16), 0.7)


def seldom_toms(rng: Rng) -> Part:
    """A beat; each tom is hit one to five times, alone or on a hit of another drum, or never."""
    part = _play(rng, float(rng.uniform(80, 140)), beat(rng), None, 0.4)
    for tom in TOMS:
        part = _with_few(rng, part, tom, int(rng.integers(0, 6)))
    return part


def tom_groove(rng: Rng) -> Part:
    """Toms in eighths or by chance, under or without a top, kick and snare among them."""
    rows = beat(rng, ghosts=0.0)
    for tom in TOMS:
        if rng.random() < 0.75:
            rows[tom] = (
                _every(16, int(rng.choice([2, 4])), int(rng.integers(0, 2)))
                if rng.random() < 0.5
                else _row(rng, 16, 0.3)
            )
    if rng.random() < 0.4:
        rows.pop("hat", None)
    return _play(rng, float(rng.uniform(85, 150)), rows, fill(rng, 16), 0.3)


def train(rng: Rng) -> Part:
    """Sixteenths on the snare, accents among them, kick on every beat or other."""
    snare = ["X" if rng.random() < 0.25 else "x" if rng.random() < 0.5 else "g" for _ in range(16)]
    rows = {"kick": _every(16, int(rng.choice([4, 8]))), "snare": snare}
    if rng.random() < 0.5:
        rows["hat"] = _every(16, 8, 4)
    part = _play(rng, float(rng.uniform(80, 140)), rows, None, 0.2)
    return _with_few(rng, part, "tom_3", int(rng.integers(0, 4)))


def fast(rng: Rng) -> Part:
    """Blast beats and two feet at 160 to 220, toms rolled in fills or never hit."""
    if rng.random() < 0.5:
        rows = {"kick": _every(16, 2), "snare": _every(16, 2, 1), "hat": _every(16, 2)}
    else:
        rows = {"kick": ["x"] * 16, "snare": list("....X.......X..."), "ride": _every(16, 2)}
    rolled = (
        {"tom_1": "........xxxx....", "tom_3": "............xxxx"} if rng.random() < 0.6 else None
    )
    return _play(rng, float(rng.uniform(160, 220)), rows, rolled, 0.5)


def half_time(rng: Rng) -> Part:
    """Half time, crash or ride on top."""
    kick = _row(rng, 16, 0.2)
    kick[0] = "X"
    rows = {
        "kick": kick,
        "snare": list("........X......."),
        str(rng.choice(["ride", "crash_1"])): _every(16, 4),
    }
    return _play(rng, float(rng.uniform(100, 150)), rows, fill(rng, 16), 0.5)


def swung(rng: Rng) -> Part:
    """Triplets: shuffles, six-eight, waltzes of twelve steps."""
    rows = beat(rng, 12)
    return _play(rng, float(rng.uniform(60, 130)), rows, fill(rng, 12), 0.4)


def linear(rng: Rng) -> Part:
    """One hit at a time over the whole kit."""
    pieces = ["kick", "snare", "hat", *TOMS]
    shares = rng.dirichlet([3, 2, 3, 0.6, 0.6, 0.8])
    rows = {p: ["."] * 16 for p in pieces}
    for n in range(16):
        if rng.random() < 0.85:
            rows[str(rng.choice(pieces, p=shares))][n] = str(rng.choice(["x", "x", "X", "g"]))
    return _play(rng, float(rng.uniform(80, 125)), rows, fill(rng, 16), 0.2)


def never_hit(rng: Rng) -> Part:
    """A beat in which no tom is ever hit."""
    return _play(rng, float(rng.uniform(80, 150)), beat(rng), None, 0.5)


def free(rng: Rng) -> Part:
    """A beat whose tempo wanders by four in a hundred, open and pedalled hats among it."""
    part = _play(rng, float(rng.uniform(75, 140)), beat(rng), fill(rng, 16), 0.4)
    knots = np.cumsum(rng.normal(0, 0.02, 12))
    end = part[-1].time_s

    def when(t: float) -> float:
        return t * (1 + float(np.clip(np.interp(t / end * 11, range(12), knots), -0.04, 0.04)))

    kinds = ["plain", "plain", "open", "pedal"]
    part = [
        replace(s, kind=str(rng.choice(kinds))) if s.piece == "hat" and rng.random() < 0.4 else s
        for s in part
    ]
    return sorted((replace(s, time_s=when(s.time_s)) for s in part), key=lambda s: s.time_s)


def flams(rng: Rng) -> Part:
    """A beat with flams on snare and toms."""
    part = _play(rng, float(rng.uniform(80, 125)), beat(rng, ghosts=0.0), fill(rng, 16), 0.3)
    graces = [
        replace(
            s,
            time_s=s.time_s - float(rng.uniform(0.01, 0.04)),
            velocity=round(0.5 * s.velocity),
            kind="grace",
        )
        for s in part
        if s.piece in ("snare", *TOMS) and rng.random() < 0.2
    ]
    return sorted(part + graces, key=lambda s: s.time_s)


def parted(rng: Rng) -> Part:
    """A beat with the kick on three of four backbeats, every fourth of them 9 to 26 ms off the snare."""
    part = backbeat(rng)
    snares = [s for s in part if s.piece == "snare" and s.velocity > 80]
    near = np.array([s.time_s for s in snares])
    rest = [s for s in part if s.piece != "kick" or np.abs(near - s.time_s).min() > 0.06]
    kicks = []
    for number, snare in enumerate(snares):
        is_off = number % 4 == 1
        gap = rng.choice([-1, 1]) * rng.uniform(0.009, 0.026) if is_off else rng.normal(0, 0.001)
        if number % 4 != 2:
            kicks.append(PlayedHit(snare.time_s + float(gap), "kick", int(rng.integers(90, 115))))
    return sorted(rest + kicks, key=lambda s: s.time_s)


def _with_few(rng: Rng, part: Part, piece: str, count: int) -> Part:
    """A few hits of a drum: half of them on another hit, half in a gap."""
    times = np.array([s.time_s for s in part])
    more = []
    for _ in range(count):
        n = int(rng.integers(4, len(times) - 4))
        together = rng.random() < 0.5
        at = times[n] + rng.normal(0, 0.004) if together else (times[n] + times[n + 1]) / 2
        more.append(PlayedHit(float(at), piece, int(rng.integers(75, 122))))
    return sorted(part + more, key=lambda s: s.time_s)


FAMILIES: dict[str, Callable[[Rng], Part]] = {
    make.__name__: make
    for make in (
        backbeat,
        seldom_toms,
        tom_groove,
        train,
        fast,
        half_time,
        swung,
        linear,
        never_hit,
        free,
        flams,
    )
}

PARTS = {**FAMILIES, parted.__name__: parted}
"""Families that worlds are drawn from, and what a benchmark of its own asks for."""
