"""Finding the hits of a take, and whose they are.

One straight way; each room uses only those above it:

    mics ─► hear ─► explain ─► weigh ─► choose ─► detect ─► hits

* `hear`: where anything begins in each mic (`novelty`, `onsets`), which mic hears it first (`leading`),
  where exactly (`arrival`, `stirs`, `swells`, `masked`, `agreed`), and what it sounds like from the
  overheads (`spectra`).
* `explain`: what each piece leaves in every mic (`signatures`, fitted by `joint_fit` within what is
  `known` of kits), so how much of an event is bleed (`ownership`), and how far bleed can reach by the
  paths between mics (`reach`).
* `weigh`: a row of named figures for each onset (`evidence`, `weighing`; `afar` for the overheads), and
  how likely they make it a hit (`verdict`: trees that may only rise with what speaks for a hit).
* `choose`: of each piece the likely onsets (`choosing`, `hits`; a snare's are weighed `again`), those
  that only overheads hear (`overheard`), and the `floor`: what stands clear of all bleed is a hit,
  whatever was decided before, and what is surely some tom's is not left `unclaimed`. Then the toms'
  hits that sound `alike`, and `rolls`. At last a shell's hits are laid over each other: where each
  `begins`.
* `detect` goes through all of it. `listening` is what it knows before it decides.

Beside the way: a `hit` as it stands in a list, what its `confidence` means, `moments` for an ear to judge,
what a list may lack (`unlisted`), and judgements `carry`-ed over to a list found anew.
"""
