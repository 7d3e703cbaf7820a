"""How likely each onset is a hit of its piece: its evidence, weighed.

Boosted trees (Friedman, 2001) fitted by `benchmarks.fit` to onsets of recorded and simulated
hits whose truth is known, each with what `evidence` says of it. Where a figure can only speak for
a hit, or only against one, the trees were held to that. What they give is a share: of onsets given
0.9, nine in ten are hits.
"""

from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.kernel import kernel

FILE, SNARE_FILE, AFAR_FILE = (
    Path(__file__).with_name(f"{name}.npz") for name in ("verdict", "snares", "afar")
)


@dataclass(frozen=True)
class Trees:
    """All trees' nodes one after the other, each tree from one of ``roots`` on: which column a node
    looks at (−1 at a leaf), the ``threshold`` up to which it goes ``left``, where it goes without a
    figure (``missing`` left), and a leaf's ``value`` in log odds. They add up to ``base``."""

    roots: NDArray[np.int32]
    column: NDArray[np.int16]
    threshold: NDArray[np.float32]
    left: NDArray[np.int32]
    right: NDArray[np.int32]
    missing: NDArray[np.bool_]
    value: NDArray[np.float32]
    base: float


NAMES_KEY, PROVENANCE_KEY = "names", "provenance"
"""What a file of trees holds besides them: the names of the columns that they look at, in order, and what
they were fitted to, by what, as JSON."""


_elsewhere: list[Path] = []


def use_trees(folder: Path) -> None:
    """From now on read trees from the files of the same names in another ``folder``: a report on sources that the
    trees which ship have learned from needs others. Raises `ArkundError` where one is missing."""
    for file in (FILE, SNARE_FILE, AFAR_FILE):
        if not (folder / file.name).exists():
            raise ArkundError(f"{folder} holds no {file.name}; make fit writes it.")
    _elsewhere[:] = [folder]
    kept.cache_clear()


@cache
def kept(file: Path, names: tuple[str, ...], prefix: str = "") -> Trees:
    """The trees that a file holds under a prefix, looking at the columns of evidence that have these
    ``names``; raise `ArkundError` where they ask for one that is not there."""
    with np.load(_elsewhere[0] / file.name if _elsewhere else file) as inside:
        parts = {name: inside[prefix + name] for name in Trees.__dataclass_fields__}
        learned = inside[prefix + NAMES_KEY].tolist()
    lacking = set(learned) - set(names)
    if lacking:
        raise ArkundError(
            f"{file.name} was fitted to figures that are no longer measured: "
            f"{', '.join(sorted(lacking))}. Run make fit to fit it again."
        )
    place = np.array([names.index(name) for name in learned] + [-1], np.int16)
    return Trees(**parts | {"column": place[parts["column"]], "base": float(parts["base"])})


def probabilities(evidence: NDArray[np.float32], trees: Trees) -> NDArray[np.float64]:
    """Share ``(onsets,)`` of such onsets that are hits, from ``(onsets, columns)`` of evidence."""
    t = trees
    odds = _add_up(
        np.ascontiguousarray(evidence),
        t.roots,
        t.column,
        t.threshold,
        t.left,
        t.right,
        t.missing,
        t.value,
    )
    share: NDArray[np.float64] = 1.0 / (1.0 + np.exp(-(odds + t.base)))
    return share


@kernel()
def _add_up(rows, roots, column, threshold, left, right, missing, value):  # type: ignore[no-untyped-def]
    out = np.zeros(len(rows))
    for i in range(len(rows)):
        for root in roots:
            node = root
            while column[node] >= 0:
                x = rows[i, column[node]]
                if np.isnan(x):
                    node = left[node] if missing[node] else right[node]
                else:
                    node = left[node] if x <= threshold[node] else right[node]
            out[i] += value[node]
    return out
