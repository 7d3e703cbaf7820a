"""Load-in: the kit from above, each mic at its place, with lines to what it really hears."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, get_args

from arkund.bench.health import health, places
from arkund.bench.stations.load_in.lettering import letter
from arkund.core.kit.plan import PlacedMic, PlacedPiece, place_mics, place_pieces
from arkund.core.kit.roles import BESIDE, label, parse_mic_name, piece_family, roles_at
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.units import metres_to_samples, samples_to_ms
from arkund.songs.analysed import Analysis, analysis_of
from arkund.songs.exports import doubtful
from arkund.songs.facts import MicFacts
from arkund.songs.hits import known_pieces
from arkund.songs.tempo import other_tempos

WIDTH, HEIGHT = 470, 282
_X0, _Y0 = 235.0, 266.0
_PER_M = 186.0

HEARD_DB = 24.0
"""What a mic hears so far under its loudest piece is not drawn."""

WIDEST = 5.0

USUAL = ("kick", "snare", "tom_1", "hat", "ride", "crash_1")
"""Pieces that a mic may be said to stand at although none is on the plan yet."""


def context(sheet: Sheet, mic: str, rows: Sequence[MicFacts]) -> dict[str, Any]:
    """All that the station's page shows besides its frame."""
    pieces = known_pieces(sheet)
    own = next(r for r in rows if r.mic == mic)
    grid = grid_of(sheet)
    used = {m.role for m in sheet.mics.values()}
    return {
        "rows": [
            {
                "file": f,
                "mic": sheet.mics[f.mic],
                "health": health(f.measures, sheet.mics[f.mic].unused),
                "places": places(f.measures, sheet, grid),
            }
            for f in rows
        ],
        "floor": floor(sheet, pieces, mic, rows),
        "choices": choices(sheet, pieces),
        "own": own,
        "heard": heard_words(mic, own.heard),
        "expected": expected(sheet, mic),
        "mic_sheet": sheet.mics[mic],
        "sides": _sides(sheet, mic),
        "measured_from": "snare’s head"
        if own.mic not in sheet.mics or parse_mic_name(mic).piece is None
        else f"{label(parse_mic_name(mic).piece or '')}’s head",
        "roles": [
            (label(p) if p else "elsewhere", [c["mic"] for c in listed])
            for p, listed in choices(sheet, pieces).items()
        ],
        "tempo_words": _tempo_words(sheet),
        "other_tempos": other_tempos(sheet),
        "tempo_json": sheet.tempo.model_dump(mode="json"),
        "sections_json": [s.model_dump() for s in sheet.sections],
        "has_click": "click" in used,
        "has_bed": "bed" in used,
        "notes": NOTES,
        "doubtful": doubtful(sheet),
        "takes_rows": [
            {"number": t.number, "ms": samples_to_ms(t.offset, sheet.rate)} for t in sheet.takes
        ],
    }


NOTES = ("", *get_args(Sheet.model_fields["root_note"].annotation)[1:])


def _tempo_words(sheet: Sheet) -> str:
    """Constant, or between which tempos it drifts."""
    t = sheet.tempo
    bpms = [t.bpm, *(c.bpm for c in t.changes)]
    if max(bpms) - min(bpms) < 0.05:
        return f"{t.bpm:.2f} BPM throughout"
    return f"{min(bpms):.1f} to {max(bpms):.1f} BPM, {len(t.changes)} changes"


def _sides(sheet: Sheet, mic: str) -> dict[str, Any]:
    """How a mic can be made part of a pair, or a pair be parted into two: new names by mic."""
    own = sheet.mics[mic].name
    if own.side is not None:
        other = str(replace(own, side="r" if own.side == "l" else "l"))
        free = [n for n in range(1, 9) if f"{own.role}_{n}" not in sheet.mics]
        both = [m for m in (mic, other) if m in sheet.mics]
        return {
            "split": {m: f"{own.role}_{n}" for m, n in zip(both, free, strict=False)},
            "partners": [],
        }
    alike = [
        m
        for m in mic_order(sheet)
        if m != mic and sheet.mics[m].side is None and sheet.mics[m].role == own.role
    ]
    pair = {m: {mic: f"{own.role}_l", m: f"{own.role}_r"} for m in alike}
    taken = {f"{own.role}_l", f"{own.role}_r"} & set(sheet.mics)
    return {"split": {}, "partners": {} if taken else pair}


def floor(sheet: Sheet, pieces: list[str], chosen: str, rows: Sequence[MicFacts]) -> dict[str, Any]:
    """The plan: pieces, mics, and a line from a mic to each piece that it hears, wide where loud."""
    placed = place_pieces(pieces)
    at = {p.piece: p for p in placed}
    kit = [m for m in mic_order(sheet) if sheet.mics[m].role not in BESIDE]
    mics = place_mics(kit, placed)
    facts = {r.mic: r for r in rows}
    # Names of pieces stand under their marks.
    taken = [(_x(p.x) - 18, _y(p.y) - 6, _x(p.x) + 18, _y(p.y) + 15) for p in placed]
    names = letter([(_x(m.x), _y(m.y), label(m.mic)) for m in mics], taken, WIDTH, HEIGHT - 14)
    return {
        "width": WIDTH,
        "height": HEIGHT,
        "pieces": [_piece(p) for p in placed],
        "lines": [line for m in mics for line in _lines(m, facts[m.mic].heard, at, chosen)],
        "mics": [
            {
                "mic": m.mic,
                "label": label(m.mic),
                "x": _x(m.x),
                "y": _y(m.y),
                "name": name,
                "chosen": m.mic == chosen,
                "trouble": bool(facts[m.mic].measures["flags"]),
                "unused": bool(sheet.mics[m.mic].unused),
                "overdub": sheet.mics[m.mic].overdub,
            }
            for m, name in zip(mics, names, strict=True)
        ],
        "beside": [
            {"mic": m, "label": label(m), "chosen": m == chosen}
            for m in mic_order(sheet)
            if sheet.mics[m].role in BESIDE
        ],
    }


def _x(metres: float) -> float:
    return round(_X0 + metres * _PER_M, 1)


def _y(metres: float) -> float:
    return round(_Y0 - metres * _PER_M, 1)


def _piece(p: PlacedPiece) -> dict[str, Any]:
    family = piece_family(p.piece)
    shown = family if family in ("kick", "snare", "tom") else "metal"
    return {
        "piece": p.piece,
        "label": label(p.piece),
        "family": shown,
        "x": _x(p.x),
        "y": _y(p.y),
        "r": round(p.radius * _PER_M, 1),
    }


def _lines(
    mic: PlacedMic, heard: Mapping[str, float], at: Mapping[str, PlacedPiece], chosen: str
) -> list[dict[str, Any]]:
    loudest = max(heard.values(), default=0.0)
    own = parse_mic_name(mic.mic).piece
    out = []
    for piece, level in heard.items():
        under = loudest - level
        # Of every mic the piece that it hears loudest; of the one in hand all that it hears.
        if piece not in at or under > (HEARD_DB if mic.mic == chosen else 0.0):
            continue
        out.append(
            {
                "x1": _x(mic.x),
                "y1": _y(mic.y),
                "x2": _x(at[piece].x),
                "y2": _y(at[piece].y),
                "width": round(WIDEST * (1 - under / HEARD_DB) + 0.4, 1),
                "chosen": mic.mic == chosen,
                "family": _piece(at[piece])["family"],
                "own": piece == own or own is None,
            }
        )
    return out


def heard_words(mic: str, heard: Mapping[str, float]) -> list[dict[str, Any]]:
    """What a mic hears, the loudest first, for the side-by-side with its name."""
    own = parse_mic_name(mic).piece
    loudest = max(heard.values(), default=0.0)
    return [
        {
            "label": label(p),
            "db": level,
            "width": round(max(100 - (loudest - level) / 0.36, 2)),
            "own": p == own,
        }
        for p, level in sorted(heard.items(), key=lambda item: -item[1])
    ]


def choices(sheet: Sheet, pieces: list[str]) -> dict[str, list[dict[str, str]]]:
    """By piece of the plan what a mic put there can be, and who is that now; under the empty name
    what it can be elsewhere: at a piece that the plan does not show yet, or away from the drums."""
    families = [piece_family(p) for p in pieces]
    missing = [p for p in USUAL if p not in pieces]
    for family in ("tom", "crash"):
        missing.append(f"{family}_{families.count(family) + 1}")
    names = {p: roles_at(p) for p in pieces}
    names[""] = [r for p in dict.fromkeys(missing) if p not in pieces for r in roles_at(p)]
    names[""] += roles_at(None)
    return {
        piece: [
            {"mic": n, "label": label(n), "taken": n if n in sheet.mics else ""} for n in listed
        ]
        for piece, listed in names.items()
    }


def expected(sheet: Sheet, mic: str) -> list[dict[str, Any]]:
    """Delays that typed distances lead one to expect of a mic's pairs, beside the measured ones."""
    found: Analysis = analysis_of(sheet.take)
    out = []
    for pair in found.pairs:
        if mic not in (pair.mic, pair.reference) or not {pair.mic, pair.reference} <= set(
            sheet.mics
        ):
            continue
        far, near = sheet.mics[pair.mic].distance_cm, sheet.mics[pair.reference].distance_cm
        if far is None or near is None:
            continue
        samples = metres_to_samples((far - near) / 100, sheet.rate)
        out.append(
            {
                "piece": label(pair.piece),
                "mic": label(pair.mic),
                "reference": label(pair.reference),
                "expected_ms": round(samples_to_ms(samples, sheet.rate), 2),
                "measured_ms": round(samples_to_ms(pair.delay_samples, sheet.rate), 2),
                "sure": pair.sure,
            }
        )
    return out
