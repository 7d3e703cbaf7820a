"""Kernels are compiled when they first run; who runs none never loads the compiler."""

import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

from arkund.core.kernel import Kernel, kernel


@kernel(inline="always")
def _squared(x):  # type: ignore[no-untyped-def]
    return x * x


@kernel()
def _energy(sound):  # type: ignore[no-untyped-def]
    total = 0.0
    for n in range(len(sound)):
        total += _squared(sound[n])
    return total


def test_a_kernel_calls_another_and_both_are_compiled_once() -> None:
    sound = np.arange(1000.0)
    with ThreadPoolExecutor(4) as threads:
        found = set(threads.map(_energy, [sound] * 8))
    assert found == {float(np.dot(sound, sound))}
    assert isinstance(_energy, Kernel)
    assert _energy.compiled() is _energy.compiled()
    assert _energy.compiled().signatures, "it ran in the interpreter"  # type: ignore[attr-defined]


def test_a_kernel_says_its_own_name() -> None:
    assert (_energy.__name__, _energy.__module__) == ("_energy", __name__)


@pytest.mark.parametrize(
    ("modules", "never"),
    [
        ("arkund.cli", ("numba", "numpy", "django", "pydantic")),
        ("arkund.core.render.printing, arkund.core.hits.detect", ("numba",)),
    ],
)
def test_who_runs_no_kernel_never_loads_the_compiler(modules: str, never: tuple[str, ...]) -> None:
    code = f"import sys, {modules}; print([m for m in {never} if m in sys.modules])"
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert ran.stdout.strip() == "[]"


def test_a_command_that_reads_no_sheet_loads_none_of_what_reads_them(tmp_path: Path) -> None:
    code = (
        "import sys; from arkund.cli import main; main(['songs', '--json']); "
        "print([m for m in ('numpy', 'pydantic', 'scipy', 'rich') if m in sys.modules])"
    )
    env = os.environ | {"ARKUND_DATA": str(tmp_path)}
    command = [sys.executable, "-c", code]
    subprocess.run(command, env=env, check=True, capture_output=True)  # makes the database
    ran = subprocess.run(command, env=env, capture_output=True, text=True, check=True)
    assert ran.stdout.splitlines() == ['{"songs": []}', "[]"]
