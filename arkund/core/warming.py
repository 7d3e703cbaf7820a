"""Compiling every kernel once, so that the first sound does not wait for it.

Run by ``make setup``; compiled code is kept on disk beside the modules.
"""

import sys
from collections.abc import Callable
from functools import partial

import numpy as np

from arkund.core.clean import gate
from arkund.core.graph import adding
from arkund.core.hits import detect
from arkund.core.measure import levels, loudness, punch
from arkund.core.process.registry import BY_KIND
from arkund.core.process.stage import Audio, Stage
from arkund.core.render import dither
from arkund.core.shape import biquad
from arkund.core.simulate import session
from arkund.core.timing import splice


def compile_all() -> None:
    """Run each kernel once on a few samples, with progress on standard error."""
    rate = 48000
    mono = np.linspace(-1, 1, 4096, dtype=np.float32)
    stereo = np.stack([mono, mono], axis=1)
    total = np.zeros((4096, 2))
    jobs: dict[str, Callable[[], object]] = {
        **{
            f"{kind}, {len(audio.shape)}": partial(_run, processor, audio, rate)
            for kind, processor in BY_KIND.items()
            for audio in (mono, stereo)
        },
        "filters": lambda: [
            biquad.run(mono, [(1.0, 0.0, 0.0, 0.0, 0.0)] * n, np.zeros((n, 2))) for n in range(1, 8)
        ],
        "gate": lambda: gate.gate(mono, mono, -20, 6, -40, gate.Timing(10, 10, 10)),
        "mix": lambda: (
            adding.add_mono(total, mono, 1.0, 1.0),
            adding.add_stereo(total, stereo, 1.0, 1.0),
            adding.filter_valid(mono, np.ones(64)),
            adding.rounded(total, 1.0, stereo),
            adding.spread(mono, 1.0, 1.0, 1.0, stereo),
            adding.beyond(stereo, 1.0),
            adding.beyond(total, 1.0),
            adding.add_steps(total, np.zeros((4096, 2), np.int32)),
        ),
        "dither": partial(_dithered, mono),
        "levels": lambda: levels.measure_mic(mono, rate),
        # Less than four tenths of a second are measured in another way.
        "loudness": lambda: [
            (loudness.true_peak(sound), loudness.loudness_lufs(sound, rate))
            for sound in (mono, np.tile(mono, 8))
        ],
        "punch": lambda: punch.punch_card(stereo, rate, punch.Hits({})),
        "splices": lambda: splice.best_splice(stereo, np.array([1]), 48, (0, 4000), rate),
        "hits": lambda: detect.detect(session.simulate("copper", 1, bars=2).mics, rate),
    }
    for number, (name, job) in enumerate(jobs.items(), 1):
        print(f"\rcompiling {number}/{len(jobs)} {name:<20}", end="", file=sys.stderr, flush=True)
        job()
    print("\rkernels compiled" + " " * 24, file=sys.stderr)


def _dithered(audio: Audio) -> None:
    steps = np.empty(audio.shape, np.int32)
    dither.dithered(audio, 0, np.uint32(1), steps)
    dither.packed(steps)


def _run(kind: type[Stage], audio: Audio, rate: int) -> None:
    """One processor, doing something."""
    process = kind.model_validate({"id": "s1", **kind.busy}).process(rate)
    process.run(audio, process.at_rest(audio.ndim))


if __name__ == "__main__":
    compile_all()
