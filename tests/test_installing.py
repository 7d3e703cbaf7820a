"""The installer of the tests' tools where the package registry does not answer."""

import os
import subprocess
from pathlib import Path

ROOT = Path(__file__).parents[1]


def _stand_ins(folder: Path, apt_get: str) -> dict[str, str]:
    """A path on which only these commands are to be found."""
    folder.mkdir()
    for name in ("sh", "make", "touch", "test", "echo", "cat", "seq"):
        real = next(p for p in (Path("/usr/bin") / name, Path("/bin") / name) if p.exists())
        (folder / name).symlink_to(real)
    for name, text in (("apt-get", apt_get), ("sleep", "exit 0"), ("npm", "exit 0")):
        (folder / name).write_text(f'#!/bin/sh\necho "$@" >> {folder}/{name}.log\n{text}\n')
        (folder / name).chmod(0o755)
    return {
        "PATH": str(folder),
        "HOME": os.environ["HOME"],
        "ARKUND_INSTALL_TRIES": "3",
        "ARKUND_CHROMIUM": str(folder / "chromium"),
    }


def _run(env: dict[str, str], *command: str) -> "subprocess.CompletedProcess[str]":
    return subprocess.run(command, env=env, cwd=ROOT, capture_output=True, text=True, check=False)


def test_a_refresh_that_fails_is_tried_again_and_then_said(tmp_path: Path) -> None:
    env = _stand_ins(tmp_path / "bin", "exit 100")
    done = _run(env, "sh", "scripts/install-test-tools.sh")
    assert done.returncode != 0
    assert "Could not install Chromium: apt-get failed 3 times." in done.stderr
    asked = (tmp_path / "bin" / "apt-get.log").read_text().splitlines()
    assert len(asked) == 3
    assert all("DPkg::Lock::Timeout" in line for line in asked)


def test_no_stamp_is_left(tmp_path: Path) -> None:
    env = _stand_ins(tmp_path / "bin", "exit 100")
    venv = tmp_path / "venv"
    (venv / "bin").mkdir(parents=True)
    (venv / "bin" / "python").symlink_to("/bin/true")
    (venv / ".run-ready").touch()
    done = _run(env, "make", f"VENV={venv}", f"{venv}/.test-ready")
    assert done.returncode != 0
    assert not (venv / ".test-ready").exists()


def test_an_installer_that_installs_nothing_is_found_out(tmp_path: Path) -> None:
    env = _stand_ins(tmp_path / "bin", "exit 0")
    done = _run(env, "sh", "scripts/install-test-tools.sh")
    assert done.returncode != 0
    assert "is not there" in done.stderr
