"""Fitting what weighs an onset's evidence, in close mics and from afar (`arkund.core.hits.verdict`).

    python -m benchmarks.verdict FOLDER [--seeds N] [--first N] [--snares]

renders recordings of development's recorded strokes and of the simulator into the folder (those that
are there are kept), says how well folds of them are told that the fit did not see, and writes
arkund/core/hits/verdict.npz and afar.npz from all of them. What is known of pieces with mics, where
only overheads hear others, comes from the trees that are there; what overheads say of close mics'
onsets from trees that did not learn from that lesson: those of its fold, or, with ``--first``, those
that ship, on lessons whose seeds begin beyond theirs. (verdict.npz is of 11 seeds from 51 on, afar.npz
of 11 from 1 on.) With ``--snares`` only snares.npz is written, which weighs snares again by what verdict.npz is
sure of. (It is of 11 seeds from 51 on as well: the same kits and patterns, in other colours and with
strokes less alike than verdict.npz heard.) Needs fluidsynth, its font and scikit-learn
(``pip install -r requirements-fit.txt``). The report's kits are never part of it.
"""
