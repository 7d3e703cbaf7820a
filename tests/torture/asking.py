"""Requests that no page would send, to every address that there is.

The addresses come from the list of URLs, the fields of bodies from the models by which views read
them, the paths of patches from the sheet: what is added later is attacked too.
"""

import contextlib
import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

from django.urls import URLPattern, URLResolver, get_resolver
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st

from arkund.bench.requests import Asked
from arkund.bench.stations.registry import STATIONS
from arkund.core.errors import ArkundError
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.settable import SETTABLE, is_settable
from arkund.core.sheet.sheet import Sheet, load
from arkund.core.timing.grid import LAST_BAR
from tests.torture.rows import Row
from tests.torture.running import Bench

SLOW_S = 5.0
NASTY: tuple[Any, ...] = (
    "",
    "²",
    "٣",
    "-1",
    "0",
    "1",
    "9" * 5000,
    "NaN",
    "Infinity",
    "1e999",
    "1-1",
    "5-2",
    "2-9999999",
    "../../etc/passwd",
    "</script><b>",
    "\ud800",
    "\x00",
    "ä" * 300,
    "null",
    "{",
    "[]",
    "snare_top",
    None,
    True,
    [],
    {},
    -1,
    0,
    1,
    2,
    10**9,
    10**30,
    -(10**30),
    1.5,
    1e308,
    -1e308,
    float("nan"),
    float("inf"),
    ["x"],
    [[]],
    [None] * 3,
    {"a": {"b": 1}},
    {"": ""},
    [{}] * 300,
)
DEEP = b'{"patch":' + b"[" * 3000 + b"]" * 3000 + b"}"
QUERY = (
    "rev",
    "patch",
    "bars",
    "mic",
    "band",
    "rule",
    "bus",
    "columns",
    "start",
    "frames",
    "node",
    "variant",
    "mics",
    "station",
    "a",
    "b",
    "next",
)

Send = Callable[[str, str, bytes], tuple[int, bytes, float]]
"""Method, path with query, body → status, body, seconds."""


TAKE_SONGS_AWAY = ("/remove/", "/delete/")
"""What may be asked of a song only when nothing else is."""


def addresses() -> list[str]:
    """Every address, with ``<…>`` for what varies, but those that take a song away."""

    def walk(patterns: list[URLPattern | URLResolver], before: str) -> Iterator[str]:
        for pattern in patterns:
            route = before + str(pattern.pattern)
            if isinstance(pattern, URLResolver):
                yield from walk(pattern.url_patterns, route)
            else:
                yield "/" + route

    found = walk(get_resolver().url_patterns, "")
    return [one for one in found if not one.endswith(TAKE_SONGS_AWAY)]


def fields() -> list[str]:
    """Every field that any view reads from a body."""

    def all_below(model: type[Asked]) -> Iterator[type[Asked]]:
        yield model
        for below in model.__subclasses__():
            yield from all_below(below)

    return sorted({name for model in all_below(Asked) for name in model.model_fields})


def paths_of(sheet: Sheet) -> list[str]:
    """Every path of a sheet, and some that it does not have."""

    def walk(value: Any, before: str) -> Iterator[str]:
        if before:
            yield before
        inner = (
            value.items()
            if isinstance(value, dict)
            else (enumerate(value) if isinstance(value, list) else ())
        )
        for key, below in inner:
            yield from walk(below, f"{before}.{key}" if before else str(key))

    return [
        *walk(sheet.model_dump(mode="json"), ""),
        *SETTABLE,
        "timing.to_s.x",
        "takes.0.corrections.x",
        "buses.strike.sends.kick_in.db",
        "mics.²",
        "a.b.c",
        ".",
    ]


EXTREME: dict[str, tuple[Any, ...]] = {
    "tempo": (
        {"bpm": 400, "beats": 1, "unit": 16},
        {"bpm": 20, "beats": 32, "unit": 2},
        {"bpm": 120, "changes": [{"bar": b, "bpm": 400} for b in range(2, 2000)]},
        {"bpm": 20, "first_downbeat_s": 600},
        {"bpm": 400, "first_downbeat_s": -60},
    ),
    "sections": ([{"name": "a", "start_bar": LAST_BAR, "bars": LAST_BAR}] * 500, []),
    "timing.rules": (
        [{"start_bar": 1, "bars": LAST_BAR, "school": "exact", "division": "1/32"}] * 500,
        [{"start_bar": 1, "bars": 4, "swing": 0.75, "division": "1/8t"}],
        [],
    ),
    "comp": (
        [
            {"take": 1, "at": 0},
            *({"take": 1 + n % 2, "at": 997 * n, "fade_ms": 200} for n in range(1, 400)),
        ],
    ),
    "copies": (
        [
            {"take": 1, "source": -100_000_000, "at": 16 * n, "frames": 2_000_000_000}
            for n in range(1000)
        ],
    ),
    "buses": (
        {f"bus_{n}": {"sends": {"kick_in": {"db": 12}}, "fader_db": 12} for n in range(16)},
        {},
    ),
    "mics.kick_in.repair": (
        {
            "dc": 0.5,
            "hum_hz": 70,
            "hum_lines": 12,
            "clip_gains": [{"at": n, "frames": 2_000_000, "gain_db": 24} for n in range(100)],
        },
        {"rebuilt": [{"at": n, "frames": 64} for n in range(5000)]},
    ),
}
"""Legal values of lists and parts at the ends of what is taken."""


ENDS = (
    -90,
    -80,
    -24,
    -12,
    -1,
    0,
    0.05,
    0.1,
    0.4,
    0.5,
    1,
    4,
    12,
    16,
    20,
    24,
    48,
    50,
    100,
    200,
    4000,
    4800,
    -4800,
    5000,
    16000,
    20000,
    True,
    False,
    "threshold",
    "bell",
    "exact",
)
"""Values at and near the ends of ranges."""


def legal_patches(sheet: Sheet) -> st.SearchStrategy[dict[str, Any]]:
    """Patches that the sheet takes."""
    return _patches(sheet, [p for p in paths_of(sheet) if is_settable(p)])


@st.composite
def _patches(draw: st.DrawFn, sheet: Sheet, leaves: list[str]) -> dict[str, Any]:
    patch: dict[str, Any] = {}
    for _ in range(draw(st.integers(1, 6))):
        path = draw(st.one_of(st.sampled_from(leaves), st.sampled_from(sorted(EXTREME))))
        choice = draw(st.sampled_from(EXTREME.get(path, ENDS)))
        with contextlib.suppress(ArkundError):
            apply_patch(sheet, {**patch, path: choice})
            patch[path] = choice
    return patch


def run_extremes(send: Send, slug: str, only: slice = slice(None)) -> Row:
    """Every part of the sheet at the ends of its range, on every page and picture and in sound."""
    row = Row("legal values at the ends of their ranges")
    pages = [f"/{slug}/{n}/" for n in (*STATIONS, "pcm", "figures", "lanes")]
    pages += [f"/{slug}/picture/{s.slug}/" for s in STATIONS.values() if s.picture]
    tries = [(path, n) for path, values in EXTREME.items() for n in range(len(values))][only]
    for path, number in tries:
        patch = json.dumps({path: EXTREME[path][number]})
        query = urlencode(
            {
                "patch": patch,
                "start": 0,
                "frames": 9600,
                "bars": "1-32",
                "mics": "kick_in,snare_top",
            }
        )
        for page in pages:
            status, _, seconds = send("GET", f"{page}?{query}", b"")
            row.tried += 1
            if status >= 500 or seconds > SLOW_S:
                row.fail(f"{status} after {seconds:.1f} s: {path} [{number}] on {page}")
    return row


def requests(slugs: list[str], sheet: Sheet) -> st.SearchStrategy[tuple[str, str, bytes]]:
    """Strategy of (method, address, body)."""
    nasty = st.one_of(st.sampled_from(NASTY), st.text(max_size=20), st.integers(), st.floats())
    paths = paths_of(sheet)
    # Any legal value: most of them are numbers near an end of their range.
    patches = st.dictionaries(
        st.sampled_from(paths),
        st.one_of(nasty, st.sampled_from((-24, 24, -90, 0.5, 1e-9, 400))),
        min_size=1,
        max_size=3,
    )
    legal = legal_patches(sheet)
    values = st.one_of(nasty, patches, st.integers(0, 5))

    @st.composite
    def one(draw: st.DrawFn) -> tuple[str, str, bytes]:
        path = draw(st.sampled_from(addresses()))
        fill = {
            "<slug:slug>": draw(st.sampled_from([*slugs, *slugs, "nothing"])),
            "<slug:station>": draw(st.sampled_from([*STATIONS, "nothing"])),
            "<str:token>": draw(st.sampled_from(("t" * 20, "a/b", "..", "x"))),
            "<int:number>": draw(st.sampled_from(("0", "1", "99999999999999999999"))),
        }
        for name, value in fill.items():
            path = path.replace(name, quote(value, safe="."))
        query = draw(st.dictionaries(st.sampled_from(QUERY), values, max_size=4))
        if draw(st.booleans()):
            query["patch"] = draw(legal)
            query.pop("rev", None)
        if "start" in query or draw(st.booleans()):
            query |= {"start": "0", "frames": "4800"}
        text = urlencode(
            {k: v if isinstance(v, str) else json.dumps(v) for k, v in query.items()},
            errors="replace",
        )
        if draw(st.booleans()):
            return "GET", f"{path}?{text}", b""
        names = st.sampled_from(fields())
        data = draw(st.dictionaries(names, values, max_size=5))
        data |= {"base": draw(st.integers(0, 4))} if draw(st.booleans()) else {}
        if "keep" in path:
            data |= {"patch": draw(st.one_of(patches, legal))}
        raw = draw(st.sampled_from((b"", DEEP, b"\xff\xfe", b"[]", b"{")))
        body = raw if draw(st.integers(0, 15)) == 0 else json.dumps(data).encode()
        return "POST", f"{path}?{text}" if query else path, body

    return one()


def run(number: int, count: int, send: Send, slugs: list[str], sheet: Sheet) -> Row:
    """``count`` requests; what answers 500, hangs, or answers what is no JSON, gets through."""
    row = Row("requests to every address")
    seen: dict[int, int] = {}
    addresses_asked: set[str] = set()

    @seed(number)
    @settings(
        max_examples=count,
        database=None,
        deadline=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(requests(slugs, sheet))
    def attack(asked: tuple[str, str, bytes]) -> None:
        method, path, body = asked
        row.tried += 1
        address = path.partition("?")[0]
        addresses_asked.add(address)
        status, answer, seconds = send(method, path, body)
        if status == 405:  # then the other way
            row.tried += 1
            method, body = ("POST", body or b"{}") if method == "GET" else ("GET", b"")
            status, answer, seconds = send(method, path, body)
        seen[status] = seen.get(status, 0) + 1
        shown = f"{method} {path[:300]} {body[:200]!r}"
        if status == 500:
            row.fail(f"500: {shown}: {answer[:200]!r}")
        elif seconds > SLOW_S:
            row.fail(f"{seconds:.1f} s: {shown}")
        elif answer[:1] in (b"{", b"["):
            try:
                json.loads(answer, parse_constant=_refuse)
            except ValueError:
                row.fail(f"no JSON: {shown}: {answer[:100]!r}")
        elif status == 400 and not answer.strip():
            row.fail(f"no sentence: {shown}")

    attack()
    row.remark = f"{len(addresses_asked)} addresses; " + ", ".join(
        f"{n} × {status}" for status, n in sorted(seen.items())
    )
    return row


def _refuse(text: str) -> float:
    raise ValueError(text)


def _server_send(bench: Bench) -> Send:
    """Requests as a page's own script would send them, token and all."""
    bench.post("/jobs/0/cancel/")

    def send(method: str, path: str, body: bytes) -> tuple[int, bytes, float]:
        try:
            answer = bench.post(path, body=body) if method == "POST" else bench.ask("GET", path)
        except OSError as error:
            return 500, str(error).encode(), 0.0
        return answer.status, answer.body, answer.seconds

    return send


def _sheet(bench: Bench, slug: str) -> Sheet:
    out = bench.data.parent / "sheet.json"
    bench.command("export", slug, "json", "-o", str(out))
    return load(out.read_text())


def run_on_server(number: int, folder: Path, count: int) -> Row:
    """`run` against a real server with its threads."""
    bench = Bench(folder / "asked")
    slugs = bench.make_songs("Who Asks", "What For")
    bench.start("serve")
    try:
        row = run(number, count, _server_send(bench), slugs, _sheet(bench, slugs[0]))
        for path in ("/", f"/{slugs[0]}/log/", f"/{slugs[1]}/edit/"):
            if bench.get(path).status != 200:
                row.fail(f"afterwards {path} answers {bench.get(path).status}")
    finally:
        bench.stop()
    if lines := bench.tracebacks():
        row.fail(f"{lines} tracebacks in {bench.log}")
    return row


def run_extremes_on_server(folder: Path) -> Row:
    """`run_extremes` against a real server."""
    bench = Bench(folder / "extremes")
    slug = bench.make_songs("Far Out")[0]
    bench.start("serve")
    try:
        return run_extremes(_server_send(bench), slug)
    finally:
        bench.stop()
