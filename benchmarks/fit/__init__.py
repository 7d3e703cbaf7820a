"""Fitting what weighs an onset's evidence, in close mics and from afar (`arkund.core.hits.weigh.verdict`).

    make fit            (python -m benchmarks.fit [FOLDER] [--everything] [--seeds N] [--worlds N] [--folds])

draws worlds (`benchmarks.worlds`), recordings of one font's hits in set patterns, and songs of the
simulator; renders them into the folder (those that are there are kept); says how well folds of them are
told that the fit did not see; and writes `verdict.npz` (close mics), `snares.npz` (a snare's onsets
weighed again) and `afar.npz` (what only overheads hear), each with its provenance.

What is known of pieces with mics, where only overheads hear others, comes from the trees that ship before;
their hashes stand in the provenance. What overheads say of a lesson, and what is sure of a snare, comes
from trees that did not learn from that lesson. With ``--everything`` every source, model of mics and family of
parts is learned from: these trees ship. Without it a source, two models and two families are left out
(`recordings`), and the trees go to `benchmarks/worlds/left_out`, so that `python -m benchmarks.worlds` can say what
a recording that nobody has heard may expect. The kits of `benchmarks.recorded` are never learned from.

Needs fluidsynth, the fonts and scikit-learn (``requirements-fit.txt``).
"""
