"""What the trees that ship say of themselves: fitted to what is measured today, and to nothing reported on."""

from pathlib import Path

import pytest

from arkund.core.hits.weigh.verdict import AFAR_FILE, FILE, SNARE_FILE
from benchmarks.fit import provenance
from benchmarks.fit.provenance import features_hash, read
from benchmarks.fit.recordings import UNLEARNED_FAMILIES, WORLD, world_lessons
from benchmarks.worlds.drawn import LEFT_OUT
from benchmarks.worlds.playing import FAMILIES
from benchmarks.worlds.report import TREES
from benchmarks.worlds.sources import BY_NAME
from benchmarks.worlds.world import MODELS

SHIPPED = [FILE, SNARE_FILE, AFAR_FILE]
REPORTED_BY = [TREES / file.name for file in SHIPPED]


@pytest.mark.parametrize(
    "file", [*SHIPPED, *REPORTED_BY], ids=lambda f: f"{f.parent.name}-{f.stem}"
)
def test_trees_were_fitted_to_the_figures_that_are_measured_now(file: Path) -> None:
    """Where this fails the feature code has changed: `make fit`, or measure that the figures have not."""
    assert read(file)["features"] == features_hash()


@pytest.mark.parametrize("file", SHIPPED, ids=lambda f: f.stem)
def test_what_ships_learned_from_every_source_model_and_family(file: Path) -> None:
    said = read(file)
    lessons = [name for name in said["lessons"] if name.startswith(WORLD)]
    words = {word for name in lessons for word in name.removeprefix(WORLD).split("/")[0].split()}
    assert {*BY_NAME, *MODELS, *FAMILIES} <= words
    assert set(said["sources"]) == set(BY_NAME)


@pytest.mark.parametrize("file", REPORTED_BY, ids=lambda f: f.stem)
def test_nothing_that_is_left_out_was_learned_from(file: Path) -> None:
    lessons = [name for name in read(file)["lessons"] if name.startswith(WORLD)]
    assert len(lessons) > 100
    left_out = {*LEFT_OUT["sources"], *LEFT_OUT["models"], *UNLEARNED_FAMILIES}
    for name in lessons:
        assert not left_out & set(name.removeprefix(WORLD).split("/")[0].split())
    assert not set(LEFT_OUT["sources"]) & set(read(file)["sources"])


def test_every_source_model_and_family_of_parts_is_learned_from() -> None:
    words = {word for name, _ in world_lessons(72) for word in name.removeprefix(WORLD).split()}
    assert {"fluid", "tim", "freepats", "pearl", "cardioids", "condensers", "tom_groove"} <= words
    assert len(set(world_lessons(72))) == 72


def test_comments_layout_and_imports_do_not_change_the_code(tmp_path: Path) -> None:
    plain = '"""Says what."""\nimport numpy\nx = 1\n\n\ndef f(a):\n    """Says why."""\n    return a + x\n'
    other = "import scipy\n# another\nx = (1)\ndef f(a):\n    return a+x  # here\n"
    changed = other.replace("a+x", "a-x")
    texts = []
    for number, text in enumerate((plain, other, changed)):
        path = tmp_path / f"{number}.py"
        path.write_text(text)
        texts.append(provenance._code_of(path))
    assert texts[0] == texts[1] != texts[2]
