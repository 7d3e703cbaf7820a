"""Planted faults against findings: which are found and called sure, and which are made up."""

import re
import tempfile
from collections import defaultdict
from pathlib import Path
from typing import Any

from arkund.core.advise.finding import Finding
from arkund.core.advise.findings import find_all
from arkund.core.advise.school import NATURAL
from arkund.core.kit.roles import close_mics
from arkund.core.simulate.session import Session, simulate, takes_of
from arkund.core.simulate.studying import study_of

FAULT_KINDS = (
    "load-in.clipped",
    "load-in.dc",
    "load-in.hum",
    "load-in.silent",
    "load-in.role",
    "edit.apart",
    "edit.dropped",
    "edit.cymbal",
    "align.polarity",
    "level.headroom",
    "level.wild",
    "clean.sympathy",
    "eq.ring",
)
"""Findings that say that something is wrong, rather than what could be better."""

BORDER_MS = (7.5, 8.5)
"""Kick and snare so far apart are neither a fault nor none."""


def judge(preset: str, seed: int, pool: dict[str, list[Any]]) -> None:
    """Simulate all takes of a preset, judge the first by the Natural school, add to ``pool``."""
    sessions = [simulate(preset, seed, take=take) for take in takes_of(preset)]
    with tempfile.TemporaryDirectory() as folder:
        found = find_all(study_of(sessions, Path(folder)), NATURAL)
    score(sessions, found, pool, f"{preset} {seed}")


def score(
    sessions: list[Session], found: list[Finding], pool: dict[str, list[Any]], name: str
) -> None:
    """Compare findings with the faults of the take that sounds and of the takes' comparison."""
    faults = [
        f
        for s in sessions
        for f in s.truth["faults"]
        if f.get("take", 1) == 1 or f["finding"] in ("edit.dropped", "edit.cymbal")
    ]
    unique = {(f["finding"], f["subject"]): f for f in faults}
    by_id = {(f.kind, f.subject): f for f in found}
    for (kind, subject), fault in unique.items():
        if fault["fault"] == "apart" and abs(fault["ms"]) < BORDER_MS[1]:
            continue
        # Both sides of a linked pair have one trim: either names it.
        other = subject[:-2] + {"_l": "_r", "_r": "_l"}.get(subject[-2:], subject[-2:])
        got = by_id.get((kind, subject)) or (
            by_id.get((kind, other)) if kind == "level.headroom" else None
        )
        right = got is not None and _figures_right(fault, got)
        pool[f"fault {kind}"].append(bool(right and got is not None and not got.is_doubtful))
        if not pool[f"fault {kind}"][-1]:
            why = "missed" if got is None else "doubtful" if right else f"wrong: {got.reason}"
            pool["misses"].append(f"{name}: {kind} {subject}: {why}")
    mics = list(sessions[0].mics)
    for f in found:
        if f.kind not in FAULT_KINDS or f.is_doubtful or (f.kind, f.subject) in unique:
            continue
        if f.kind == "edit.apart" and abs(f.measured["gap_ms"]) < BORDER_MS[1]:
            continue
        # A ring is heard by every mic of its drum, and reported for each.
        if f.kind == "eq.ring" and any(
            k == "eq.ring" and f.subject in close_mics(mics, s) for k, s in unique
        ):
            continue
        pool["false"].append(f"{name}: {f.id}: {f.reason}")
    pool["mics"].append(len(mics))


def _figures_right(fault: dict[str, Any], finding: Finding) -> bool:
    """Whether a finding's figures are those of the fault: frequencies within 3 %, gaps within
    2 ms, delays within 5 samples, decays within a third."""
    m = finding.measured
    if fault["fault"] in ("ring", "sings"):
        near = abs(m["hz"] / fault["hz"] - 1) <= 0.03
        return near and (fault["fault"] == "sings" or abs(m["t60_s"] / fault["t60_s"] - 1) < 0.34)
    if fault["fault"] == "apart":
        return abs(m["gap_ms"] - fault["ms"]) <= 2.0
    if fault["fault"] == "early":
        return abs(abs(m["delay_samples"]) - abs(fault["samples"])) <= 5
    if fault["fault"] == "hum":
        return bool(m["hum_hz"] == fault["hz"])
    if fault["fault"] == "dropped":
        return bool(m["bar"] == fault["bar"] and m["piece"] == fault["piece"])
    return True


def rows(pool: dict[str, list[Any]]) -> list[tuple[str, str, str, bool | None]]:
    """Rows of the accuracy table."""
    out: list[tuple[str, str, str, bool | None]] = []
    every: list[bool] = []
    for name in sorted(k for k in pool if k.startswith("fault ")):
        kind = re.sub("^fault ", "", name)
        every += pool[name]
        out.append((f"fault found: {kind}", f"{sum(pool[name])} of {len(pool[name])}", "–", None))
    share = sum(every) / max(len(every), 1)
    out.append(
        ("faults found and sure, all", f"{share:.3f} of {len(every)}", "≥ 0.95", share >= 0.95)
    )
    per_ten = 10 * len(pool["false"]) / max(sum(pool["mics"]), 1)
    out.append(("false findings per ten mics", f"{per_ten:.2f}", "≤ 1", per_ten <= 1))
    return out


def main(presets: list[str], seeds: list[int]) -> None:
    pool: dict[str, list[Any]] = defaultdict(list)
    for preset in presets:
        for seed in seeds:
            judge(preset, seed, pool)
    for what, value, bar, met in rows(pool):
        print(what, value, bar, met)
    print(*pool["misses"], "--- false", *pool["false"], sep="\n")


if __name__ == "__main__":
    import sys

    main(sys.argv[1].split(","), [int(s) for s in sys.argv[2].split(",")])
