"""Every parser of outside data gives a value or one sentence, whatever it is given."""

import io
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import mido
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from arkund.core.advise.school import SCHOOLS, school_of
from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import read_tempo
from arkund.core.exchange.sfz import read_sfz
from arkund.core.exchange.tables import read_hits_csv
from arkund.core.sheet.patches import apply_patch, inverse_patch
from arkund.core.sheet.sheet import Sheet, dump, load
from arkund.core.sheet.tempo import tempo_of
from arkund.core.sheet.upgrade import upgraded_patch
from tests.core.references import material

ANY = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=6), inner, max_size=3)
    ),
    max_leaves=6,
)
QUICK = settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))


def sentence(call: Callable[[], object]) -> None:
    """What a parser says instead of a value ends like a sentence and names no library."""
    try:
        call()
    except ArkundError as error:
        said = str(error)
        assert said.endswith((".", "?")), said
        assert "Input should" not in said


def places(value: Any, before: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    inner = (
        value.items()
        if isinstance(value, dict)
        else enumerate(value)
        if isinstance(value, list)
        else ()
    )
    return [before, *(place for key, below in inner for place in places(below, (*before, key)))]


def put(document: Any, place: tuple[Any, ...], value: Any) -> Any:
    if not place:
        return value
    out = document.copy()
    out[place[0]] = put(document[place[0]], place[1:], value)
    return out


FIRST = material.documents()
ODD = (None, 5, -1.5, True, "x", [], [1], [{}], {}, {"a": 1})


def test_a_first_sheet_with_anything_anywhere_is_read_or_refused() -> None:
    document = FIRST["everything"]
    for number, place in enumerate(places(document)):
        # Parts hold the surprises: every kind of value for them, one for every third value within.
        if len(place) >= 4 and number % 3:
            continue
        odd = ODD if len(place) < 3 else ODD[number % len(ODD) :][:1]
        for value in odd:
            text = json.dumps(put(document, place, value))
            sentence(lambda text=text: load(text))  # type: ignore[misc]


def _second() -> Sheet:
    return load(json.dumps(FIRST[max(FIRST)]))


@QUICK
@given(st.data())
def test_a_second_sheet_with_anything_anywhere_is_read_or_refused(data: st.DataObject) -> None:
    document = json.loads(dump(_second()))
    for place in data.draw(st.lists(st.sampled_from(places(document)), min_size=2, max_size=6)):
        text = json.dumps(put(document, place, data.draw(ANY)))
        sentence(lambda text=text: load(text))  # type: ignore[misc]


@QUICK
@given(st.data())
def test_any_patch_is_applied_or_refused(data: st.DataObject) -> None:
    sheet = _second()
    every = [".".join(map(str, place)) for place in places(sheet.model_dump(mode="json"))]
    paths = st.sampled_from(every) | st.text(max_size=12)
    patch = data.draw(st.dictionaries(paths, ANY, max_size=3))
    sentence(lambda: apply_patch(sheet, patch))
    sentence(lambda: inverse_patch(sheet, patch))
    old = [path for path, value in upgraded_patch(patch).items() if isinstance(path, str)]
    assert len(old) <= len(patch)


@QUICK
@given(
    st.dictionaries(
        st.sampled_from([*SCHOOLS, "name", "timing", "goal"]) | st.text(), ANY, max_size=4
    )
)
def test_any_school_is_read_or_refused(rows: dict[str, Any]) -> None:
    sentence(lambda: school_of(rows))


WORDS = st.lists(
    st.sampled_from(
        [
            "<region>",
            "<group>",
            "sample=a.wav",
            "key=",
            "volume=",
            "=",
            "nan",
            "36",
            "//",
            "/*",
            "*/",
            "\n",
            "\0",
        ]
    )
    | st.text(max_size=6),
    max_size=20,
)


@settings(max_examples=200, deadline=None)
@given(WORDS)
def test_any_kit_is_read_or_refused(words: list[str]) -> None:
    sentence(lambda: read_sfz(" ".join(words)))
    sentence(lambda: read_sfz("".join(words)))


HEADS = st.sampled_from(
    ["id,piece,time_s,velocity,kind", "piece,time_s", "time_s", "", "\ufeffpiece,time_s"]
)
CELLS = st.sampled_from(
    ["kick", "snare", "0.5", "-1", "1e999", "nan", "127", "ghost", "", "²", '"', "\0"]
) | st.text(max_size=5)


@settings(max_examples=200, deadline=None)
@given(HEADS, st.lists(st.lists(CELLS, max_size=6), max_size=6))
def test_any_hit_table_is_read_or_refused(head: str, rows: list[list[str]]) -> None:
    text = "\n".join([head, *(",".join(row) for row in rows)])
    sentence(lambda: read_hits_csv(text))


def _tempo_file() -> bytes:
    file = mido.MidiFile(type=1, ticks_per_beat=96)
    file.tracks.append(
        mido.MidiTrack(
            [
                mido.MetaMessage("time_signature", numerator=6, denominator=8),
                mido.MetaMessage("set_tempo", tempo=480_000),
                mido.MetaMessage("key_signature", key="C"),
                mido.MetaMessage("text", text="bar"),
                mido.MetaMessage("set_tempo", tempo=430_000, time=960),
            ]
        )
    )
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


@settings(max_examples=400, deadline=None, suppress_health_check=list(HealthCheck))
@given(
    st.lists(st.tuples(st.integers(0, 200), st.integers(0, 255)), max_size=4), st.integers(0, 200)
)
def test_any_midi_file_is_read_or_refused(
    tmp_path: Path, changed: list[tuple[int, int]], length: int
) -> None:
    content = bytearray(_tempo_file())
    for at, value in changed:
        content[at % len(content)] = value
    path = tmp_path / "x.mid"
    path.write_bytes(bytes(content[: max(length, 4)] if length < 150 else content))
    # What is read can stand in a sheet.
    sentence(lambda: tempo_of(read_tempo(path)))
