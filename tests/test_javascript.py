"""The modules of the page that compute something, by Node's own runner."""

import shutil
import subprocess
from pathlib import Path

HERE = Path(__file__).parent


def test_modules_of_the_page_do_as_they_say() -> None:
    node = shutil.which("node")
    assert node, "Node is missing: scripts/install-test-tools.sh installs it"
    files = sorted(str(f) for f in (HERE / "js").glob("*.test.js"))
    done = subprocess.run([node, "--test", *files], capture_output=True, text=True, check=False)
    assert files
    assert done.returncode == 0, done.stdout + done.stderr
