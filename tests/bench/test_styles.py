"""The built stylesheet is current, and tokens are the only colours."""

import re
import subprocess
from pathlib import Path

import arkund

ROOT = Path(arkund.__file__).parent.parent
BENCH = ROOT / "arkund" / "bench"


def test_built_stylesheet_is_current(tmp_path: Path) -> None:
    target = tmp_path / "app.css"
    subprocess.run(
        [
            "npx",
            "--no-install",
            "tailwindcss",
            "-i",
            "styles/app.css",
            "-o",
            str(target),
            "--minify",
        ],
        cwd=ROOT,
        check=True,
        capture_output=True,
        timeout=120,
    )
    built = (BENCH / "static" / "bench" / "app.css").read_text()
    assert built == target.read_text(), "run “make styles” and commit the result"


def test_no_colour_literals_outside_the_tokens() -> None:
    files = [
        *BENCH.rglob("*.html"),
        *(BENCH / "static" / "bench" / "js").glob("*.js"),
        *BENCH.glob("stations/*/*.js"),
    ]
    for path in files:
        assert not re.search(r"#[0-9a-fA-F]{6}\b|rgba?\(", path.read_text()), path


def test_nothing_is_fetched_from_elsewhere() -> None:
    files = [
        *BENCH.rglob("*.html"),
        *(BENCH / "static" / "bench" / "js").glob("*.js"),
        *BENCH.glob("stations/*/*.js"),
        BENCH / "static" / "bench" / "app.css",
    ]
    for path in files:
        text = path.read_text().replace("http://www.w3.org/2000/svg", "")
        assert not re.search(r"(https?:)?//[a-z0-9.-]+\.[a-z]{2,}/", text), path
