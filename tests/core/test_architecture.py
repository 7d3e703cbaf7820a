"""Rules of the code itself: which way imports point, and what compiled kernels may call."""

import ast
import importlib
import json
import re
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path

import pytest

import arkund
from arkund.core.process.document import document
from arkund.core.sheet.sheet import json_schema

ROOT = Path(arkund.__file__).parent
LAYERS = [
    {"units", "errors", "once", "kernel"},
    {"kit", "audio"},
    {"measure"},
    {"hits"},
    {"replace", "clean", "shape", "timing", "align"},
    {"process"},
    {"sheet"},
    {"graph"},
    {"render"},
    {"advise"},
    {"simulate", "exchange", "ears"},
    {"warming"},
]
# Loudness and true peak run the same biquads as the equaliser; simulation stands beside the rest.
ALLOWED = {("measure", "shape"), ("shape", "units")}


def _imports(path: Path) -> set[str]:
    names: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module)
        elif isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
    return names


def _level(part: str) -> int:
    return next(i for i, layer in enumerate(LAYERS) if part in layer)


def test_core_knows_no_interface_and_no_database() -> None:
    for path in (ROOT / "core").rglob("*.py"):
        for name in _imports(path):
            assert not name.startswith(("django", "huey", "arkund.songs", "arkund.bench")), (
                path,
                name,
            )


def test_songs_do_not_import_the_bench() -> None:
    for path in (ROOT / "songs").rglob("*.py"):
        assert not any(n.startswith("arkund.bench") for n in _imports(path)), path


def test_imports_inside_core_point_one_way() -> None:
    for path in (ROOT / "core").rglob("*.py"):
        own = path.relative_to(ROOT / "core").parts[0].removesuffix(".py")
        if own in ("__init__", "simulate"):
            continue
        for name in _imports(path):
            if name.startswith("arkund.core."):
                other = name.split(".")[2]
                if other != own and (own, other) not in ALLOWED:
                    assert _level(other) <= _level(own), f"{path} imports {name}"


def test_no_property_holds_a_lock() -> None:
    """`functools.cached_property` does (see `core/once.py`)."""
    for path in ROOT.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and node.module == "functools":
                assert "cached_property" not in {alias.name for alias in node.names}, path


def test_no_module_rests_on_one_that_rests_on_it() -> None:
    """Imports for types, and those inside functions, count too."""
    modules = {
        ".".join(path.relative_to(ROOT.parent).with_suffix("").parts).removesuffix(
            ".__init__"
        ): path
        for path in ROOT.rglob("*.py")
    }
    rests_on = {name: _modules_of(path, modules) - {name} for name, path in modules.items()}
    while leaves := {name for name, others in rests_on.items() if not others & rests_on.keys()}:
        rests_on = {name: others for name, others in rests_on.items() if name not in leaves}
    assert not rests_on, f"in a circle, or before one: {sorted(rests_on)}"


def _modules_of(path: Path, modules: Mapping[str, Path]) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            found |= {f"{node.module}.{alias.name}" for alias in node.names} | {node.module}
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    return {name for name in found if name in modules}


ROOMS = ("hear", "explain", "weigh", "choose", "listening", "detect")


def test_hits_are_found_one_straight_way() -> None:
    """Each room of `core/hits` uses only itself and those before it."""
    folder = ROOT / "core" / "hits"
    for path in folder.rglob("*.py"):
        own = path.relative_to(folder).parts[0].removesuffix(".py")
        if own not in ROOMS:
            continue
        for name in _imports(path):
            other = name.removeprefix("arkund.core.hits.").split(".")[0]
            if name.startswith("arkund.core.hits.") and other in ROOMS:
                assert ROOMS.index(other) <= ROOMS.index(own), f"{path} imports {name}"


def _is_kernel(node: ast.FunctionDef) -> bool:
    return any(
        isinstance(decorator, ast.Call)
        and isinstance(decorator.func, ast.Name)
        and decorator.func.id == "kernel"
        for decorator in node.decorator_list
    )


def test_kernels_call_kernels_of_their_own_module_only() -> None:
    """numba does not notice when a function of another file changes, and would run the old one."""
    kernels = 0
    for path in (ROOT / "core").rglob("*.py"):
        tree = ast.parse(path.read_text())
        own = {n.name for n in tree.body if isinstance(n, ast.FunctionDef)}
        imported = {
            alias.asname or alias.name
            for n in ast.walk(tree)
            if isinstance(n, ast.ImportFrom) and (n.module or "").startswith("arkund")
            for alias in n.names
        }
        for node in tree.body:
            if isinstance(node, ast.FunctionDef) and _is_kernel(node):
                kernels += 1
                called = {
                    c.func.id
                    for statement in node.body
                    for c in ast.walk(statement)
                    if isinstance(c, ast.Call) and isinstance(c.func, ast.Name)
                }
                assert not called & imported, (path, node.name)
                assert called & own <= {
                    n.name for n in tree.body if isinstance(n, ast.FunctionDef) and _is_kernel(n)
                }
    assert kernels >= 10


def test_every_kernel_is_compiled_the_same_way() -> None:
    """`core/kernel.py` alone speaks to numba: without the interpreter's lock, kept on disk, on first use."""
    for path in (ROOT / "core").rglob("*.py"):
        if path.name != "kernel.py":
            assert "numba" not in _imports(path), path


@pytest.mark.parametrize(
    "name",
    sorted(p.stem for p in (ROOT.parent / "benchmarks").glob("*.py") if p.stem != "__init__"),
)
def test_benchmarks_can_be_run(name: str) -> None:
    """They are rarely run and rot unseen where what they import is renamed."""
    module = importlib.import_module(f"benchmarks.{name}")
    given = ("main", "rows", "row", "table")
    assert any(callable(getattr(module, name, None)) for name in given)


def test_the_schema_in_the_documents_is_the_sheet_s_own() -> None:
    text = json_schema()
    plain = text if isinstance(text, str) else json.dumps(text)
    stored = (ROOT.parent / "docs" / "sheet.schema.json").read_text()
    assert json.loads(stored) == json.loads(plain), (
        "docs/sheet.schema.json is stale; docs/formats.md says how it is printed"
    )


def test_a_command_does_not_wait_for_what_it_may_not_need() -> None:
    """Parts of scipy take longer to load than most commands to run."""
    script = (
        "import sys; import arkund.core.hits.detect, arkund.core.graph.graph, arkund.core.advise.edit.takes; "
        "print([m for m in ('scipy.signal', 'scipy.stats', 'scipy.ndimage') if m in sys.modules])"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, check=True
    )
    assert done.stdout.strip() == "[]"


def test_the_settings_in_the_documents_are_the_code_s_own() -> None:
    stored = (ROOT.parent / "docs" / "settings.md").read_text()
    assert stored == document(), "docs/settings.md is stale; its head says how it is made"


def test_what_takes_arrays_says_their_shape() -> None:
    """Of the public functions of core that take arrays, four in five name a shape such as ``(frames,)``."""
    said, all_of_them = 0, 0
    for path in (ROOT / "core").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.FunctionDef) or node.name.startswith("_"):
                continue
            given = " ".join(ast.unparse(a.annotation) for a in node.args.args if a.annotation)
            if "NDArray" in given or "Audio" in given:
                all_of_them += 1
                said += bool(re.search(r"\(\w[\w ]*,[\w ,]*\)", ast.get_docstring(node) or ""))
    assert all_of_them > 150
    assert said >= 0.8 * all_of_them
