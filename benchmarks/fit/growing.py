"""Boosted trees, grown by scikit-learn and taken out of it."""

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sklearn.ensemble import HistGradientBoostingClassifier

from arkund.core.hits.weigh.verdict import Trees

FOLDS = 3


def grown(
    rows: NDArray[np.float32],
    right: NDArray[np.bool_],
    *,
    rounds: int = 500,
    rate: float = 0.06,
    leaves: int = 20,
    held: Sequence[int] | None = None,
    seed: int = 0,
) -> Trees:
    """Trees that tell which ``rows`` are ``right``; ``held`` says of each column whether more of it may
    only speak for (1) or against (−1)."""
    # A column that is never known has no thresholds.
    rows = np.where(np.isnan(rows).all(axis=0), np.float32(0), rows)
    model = HistGradientBoostingClassifier(
        max_iter=rounds,
        learning_rate=rate,
        max_leaf_nodes=leaves,
        min_samples_leaf=40,
        l2_regularization=5.0,
        max_features=0.4,
        monotonic_cst=held,
        random_state=seed,
        early_stopping=False,
    )
    model.fit(rows, right)
    return _exported(model)


def folds_of(names: Sequence[str]) -> dict[str, int]:
    """Which fold each lesson is in."""
    every = sorted(set(names))
    order = np.random.default_rng(0).permutation(every).tolist()
    return dict(zip(order, (np.arange(len(every)) % FOLDS).tolist(), strict=True))


def _exported(model: HistGradientBoostingClassifier) -> Trees:
    """The nodes of all trees in a row. (The library keeps them in private attributes; the version is
    pinned, and `check` compares what they give.)"""
    roots: list[int] = []
    parts: dict[str, list[Any]] = defaultdict(list)
    at = 0
    for (tree,) in model._predictors:
        nodes = tree.nodes
        roots.append(at)
        leaf = nodes["is_leaf"].astype(bool)
        parts["column"].append(np.where(leaf, -1, nodes["feature_idx"]))
        parts["threshold"].append(np.where(leaf, 0.0, nodes["num_threshold"]))
        parts["left"].append(np.where(leaf, 0, nodes["left"].astype(int) + at))
        parts["right"].append(np.where(leaf, 0, nodes["right"].astype(int) + at))
        parts["missing"].append(nodes["missing_go_to_left"].astype(bool))
        parts["value"].append(np.where(leaf, nodes["value"], 0.0))
        at += len(nodes)
    types: dict[str, Any] = {
        "column": np.int16,
        "threshold": np.float32,
        "left": np.int32,
        "right": np.int32,
        "missing": np.bool_,
        "value": np.float32,
    }
    joined = {name: np.concatenate(parts[name]).astype(kind) for name, kind in types.items()}
    base = float(np.ravel(model._baseline_prediction)[0])
    return Trees(np.array(roots, np.int32), **joined, base=base)
