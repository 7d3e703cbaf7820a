"""What earlier versions wrote reads on: the second sheet called hits strokes."""

import json
from typing import Any

import pytest

from arkund.core.advise.school import TIGHT, School
from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.layers import SubLayer
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet, Take, dump, load
from arkund.core.sheet.upgrade import upgraded_patch


def _now() -> Sheet:
    mics = {m: new_mic(m) for m in ("kick_in", "snare_top", "overhead_l")}
    takes = (Take(number=1, sources={}),)
    sheet = Sheet(rate=8000, frames=80_000, mics=mics, groups=groups_for(mics), takes=takes)
    return apply_patch(
        sheet,
        {
            "layers.sub": SubLayer(of="kick_in", hits="all").model_dump(mode="json"),
            "mics.overhead_l.chain": [
                {"kind": "compressor", "id": "duck", "key": {"source": "snare_hits"}}
            ],
            "mics.snare_top.clean.opens_on": "hits",
        },
    )


def test_a_second_sheet_reads_as_what_it_says_now() -> None:
    sheet = _now()
    document: dict[str, Any] = json.loads(dump(sheet))
    document["version"] = 2
    document["layers"]["sub"]["strokes"] = document["layers"]["sub"].pop("hits")
    for mic in document["mics"].values():
        if mic["clean"]["opens_on"] == "hits":
            mic["clean"]["opens_on"] = "strokes"
    document["mics"]["overhead_l"]["chain"][0]["key"]["source"] = "snare_strokes"
    assert load(json.dumps(document)) == sheet


@pytest.mark.parametrize(
    ("stored", "now"),
    [
        ({"layers.sub.strokes": "all"}, {"layers.sub.hits": "all"}),
        ({"layers.sub": {"strokes": "all"}}, {"layers.sub": {"hits": "all"}}),
        ({"layers": {"sub": {"strokes": "all"}}}, {"layers": {"sub": {"hits": "all"}}}),
        ({"mics.hat.clean.opens_on": "strokes"}, {"mics.hat.clean.opens_on": "hits"}),
        ({"mics.hat.clean": {"opens_on": "strokes"}}, {"mics.hat.clean": {"opens_on": "hits"}}),
        (
            {"buses.b.chain.c": {"key": {"source": "snare_strokes"}}},
            {"buses.b.chain.c": {"key": {"source": "snare_hits"}}},
        ),
        (
            {"over": [{"id": "o", "path": "layers.sub.strokes", "value": "all"}]},
            {"over": [{"id": "o", "path": "layers.sub.hits", "value": "all"}]},
        ),
        # A name is no word of ours.
        ({"buses.strokes.fader_db": -3.0}, {"buses.strokes.fader_db": -3.0}),
        ({"layers.strokes.fader_db": -3.0}, {"layers.strokes.fader_db": -3.0}),
        ({"layers.sub": None}, {"layers.sub": None}),
    ],
)
def test_a_stored_change_reads_as_what_it_says_now(
    stored: dict[str, Any], now: dict[str, Any]
) -> None:
    assert upgraded_patch(stored) == now
    assert upgraded_patch(now) == now


def test_an_own_school_reads_as_what_it_says_now() -> None:
    rows = TIGHT.model_dump() | {"snare": "strokes", "other_gates": "strokes"}
    assert School.model_validate(rows) == TIGHT
