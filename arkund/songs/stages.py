"""A stage of a stored song's chain, with what comes into it."""

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.dynamics.steps import steps_of
from arkund.core.errors import ArkundError, SheetError
from arkund.core.process.compressor import Compressor
from arkund.core.process.stage import Stage
from arkund.core.process.values import described
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.differences import part_at
from arkund.core.sheet.sheet import Sheet
from arkund.songs import rendering
from arkund.songs.facts import hits_for


class Fed(NamedTuple):
    """A stage, what comes into it over a span ``(frames,)`` or ``(frames, 2)``, and the times in s of the hits in
    it, ghosts apart."""

    stage: Stage
    sound: NDArray[np.float32]
    times: list[float]
    ghosts: list[float]


def fed(sheet: Sheet, path: str, start: int, stop: int) -> Fed:
    """The stage at a path (``mics.snare_top.chain.compressor``) and what comes into it between two samples.
    Raises `SheetError` where there is none."""
    steps = path.split(".")
    stage = part_at(sheet, steps)
    if not isinstance(stage, Stage):
        raise SheetError(f"The sheet has no stage “{path[:80]}”.")
    channel = DRUM_BUS if steps[0] == DRUM_BUS else steps[1]
    node = rendering.graph_of(sheet).chain(channel).before(stage.id)
    sound = rendering.engine_for(sheet).read(node, start, stop)
    rate = sheet.rate
    hits = [h for h in hits_for(sheet, channel) if start <= h.time_s * rate < stop]
    plain, ghosts = (
        [h.time_s - start / rate for h in hits if (h.kind == "ghost") is soft]
        for soft in (False, True)
    )
    return Fed(stage, sound, plain, ghosts)


def steps(sheet: Sheet, path: str, start: int, stop: int) -> list[dict[str, Any]]:
    """A compressor step by step (`core/advise/dynamics/steps.py`), with paths and patches. Raises `ArkundError`
    where the path is none's."""
    found = fed(sheet, path, start, stop)
    if not isinstance(found.stage, Compressor):
        raise ArkundError("Only a compressor is set step by step.")
    labels = described(Compressor)
    return [
        {
            "path": f"{path}.{step.name}",
            "what": labels[step.name].label,
            "said": step.said.replace("-", "−"),
            "ways": [
                {
                    "words": way.words.replace("-", "−"),
                    "patch": {
                        f"{path}.on": True,
                        **{f"{path}.{n}": v for n, v in way.values.items()},
                    },
                }
                for way in step.ways
            ],
        }
        for step in steps_of(found.stage, found.sound, sheet.rate, found.times, found.ghosts)
    ]
