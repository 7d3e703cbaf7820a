"""What trees were fitted to and by what, as it stands in their file."""

import ast
import hashlib
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from arkund.core.hits.weigh import verdict
from arkund.core.hits.weigh.verdict import PROVENANCE_KEY
from benchmarks.fit.recordings import LEARNED_SOURCES
from benchmarks.worlds.sources import BY_NAME

ROOMS = ("hear", "explain", "weigh")
"""What is measured of onsets is computed in these rooms of `arkund.core.hits`."""


def features_hash() -> str:
    """SHA-256 of the code that measures evidence, whatever its comments, layout and imports say."""
    folder = Path(verdict.__file__).parent.parent
    found = hashlib.sha256()
    for room in ROOMS:
        for path in sorted((folder / room).glob("*.py")):
            if path.name != "verdict.py":
                found.update(_code_of(path).encode())
    return found.hexdigest()


def _code_of(path: Path) -> str:
    """A module's statements as text, without imports and strings that stand alone."""
    kept = []
    for node in ast.parse(path.read_text()).body:
        if isinstance(node, (ast.Import, ast.ImportFrom)) or _is_text(node):
            continue
        for inner in ast.walk(node):
            body = getattr(inner, "body", None)
            if isinstance(body, list) and body and _is_text(body[0]):
                inner.body = body[1:]  # type: ignore[attr-defined]
        kept.append(ast.unparse(node))
    return "\n".join(kept)


def _is_text(node: ast.AST) -> bool:
    return isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)


def file_hash(path: Path) -> str:
    """SHA-256 of a file."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def provenance(
    lessons: Sequence[tuple[str, int]],
    told: Sequence[str],
    parents: dict[str, str],
    seed: int,
    *,
    everything: bool = False,
) -> dict[str, Any]:
    """What a file says of its trees: the ``lessons`` by name and seed, the sources' hashes, the hash of
    the feature code, of the trees that were there before (``parents``), the fit's ``seed``, and how well
    folds were ``told``."""
    return {
        "lessons": [f"{name}/{number}" for name, number in lessons],
        "sources": {
            name: BY_NAME[name].sha256 for name in (BY_NAME if everything else LEARNED_SOURCES)
        },
        "features": features_hash(),
        "parents": parents,
        "seed": seed,
        "told": list(told),
    }


def read(path: Path) -> dict[str, Any]:
    """The provenance in a file of trees."""
    with np.load(path) as inside:
        found: dict[str, Any] = json.loads(str(inside[PROVENANCE_KEY]))
    return found
