"""Compiling every kernel once, so that the first sound does not wait for it.

Run by ``make setup``; compiled code is kept on disk beside the modules.
"""

import sys

import numpy as np

from arkund.core.clean import gate
from arkund.core.hits import novelty
from arkund.core.measure import loudness
from arkund.core.mix import adding, printing
from arkund.core.shape import biquad, compressor, transient
from arkund.core.simulate import modal


def compile_all() -> None:
    """Run each kernel once on a few samples, with progress on standard error."""
    rate = 48000
    mono = np.linspace(-1, 1, 4096, dtype=np.float32)
    stereo = np.stack([mono, mono], axis=1)
    sections = [biquad.match(biquad.bell(3.0, 1.0), 1000, rate)] * 4
    squeeze = compressor.Settings(-20, 4, 6, 10, 100)
    total = np.zeros((4096, 2))
    one = np.ones((1, 1))
    bank = modal.Bank(np.array([100.0]), np.array([0.2]), one)
    jobs = {
        "equaliser": lambda: biquad.run(mono, sections, biquad.new_state(sections)),
        "compressor": lambda: compressor.run(mono, mono, squeeze, rate, compressor.new_state()),
        "stereo compressor": lambda: compressor.run(
            stereo, compressor.linked_key(stereo), squeeze, rate, compressor.new_state()
        ),
        "transient": lambda: transient.run(
            mono, transient.Settings(3, -3), rate, transient.new_state()
        ),
        "gate": lambda: gate.gate(mono, mono, -20, 6, -40, gate.Timing(10, 10, 10)),
        "mix": lambda: (
            adding.add_mono(total, mono, 1.0, 1.0),
            adding.add_stereo(total, stereo, 1.0, 1.0),
            adding.filter_valid(mono, np.ones(64)),
        ),
        "dither": lambda: printing._dither(
            mono, np.ones(1, np.uint64), np.zeros(4096, np.int32), np.zeros(12288, np.uint8)
        ),
        "onsets": lambda: novelty.band_energy(mono, rate),
        "true peak": lambda: loudness.true_peak(mono),
        "simulated kit": lambda: modal.strike(
            bank, np.array([1.0]), np.ones(1), np.array([0.001]), one, 64, rate
        ),
    }
    for number, (name, job) in enumerate(jobs.items(), 1):
        print(f"\rcompiling {number}/{len(jobs)} {name:<20}", end="", file=sys.stderr, flush=True)
        job()
    print("\rkernels compiled" + " " * 24, file=sys.stderr)


if __name__ == "__main__":
    compile_all()
