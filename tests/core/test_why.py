"""What differs between two nodes, in words."""

from pathlib import Path

import pytest

from arkund.core.graph.building import build
from arkund.core.graph.graph import Graph
from arkund.core.graph.why import why_keys_differ
from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet, Source, Take

MICS = ("kick_in", "snare_top", "overhead_l", "overhead_r")


def _graph(**patch: object) -> Graph:
    mics = {m: new_mic(m) for m in MICS}
    sources = {m: Source(sha256=f"{n:064x}") for n, m in enumerate(MICS)}
    on = {"mics.snare_top.chain.compressor.on": True, "mics.kick_in.delay_samples": 2}
    sheet = Sheet(
        rate=48000,
        frames=48000,
        takes=(Take(number=1, sources=sources),),
        mics=mics,
        groups=groups_for(mics),
    )
    library = Library(lambda digest: Path(digest), lambda digest: [])
    return build(
        apply_patch(sheet, on | {k.replace("__", "."): v for k, v in patch.items()}), library
    )


@pytest.mark.parametrize(
    ("patch", "said"),
    [
        ({"mics__kick_in__delay_samples": 3}, "Placed.delay: 2.0 → 3.0"),
        ({"mics__snare_top__chain__compressor__threshold_db": -31}, "-31"),
        ({"mics__overhead_l__clean__on": True}, "File"),
    ],
)
def test_one_setting_is_one_line(patch: dict[str, object], said: str) -> None:
    before, after = _graph().output, _graph(**patch).output
    assert why_keys_differ(before, before) == []
    lines = why_keys_differ(before, after)
    assert len(lines) == 1
    assert said in lines[0]


def test_a_setting_heard_along_several_ways_is_said_once() -> None:
    before = _graph()
    after = _graph(mics__kick_in__delay_samples=3)
    both = [graph.node("kick_in+output") for graph in (before, after)]
    assert len(why_keys_differ(*both)) == 1
