"""``make words``: every text that a user can meet, with its place, so that the whole can be read as one.

Templates, scripts of the pages, sentences in Python (findings, messages, the command line) and documents.
"""

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SPOKEN = re.compile(r"[A-Za-z]{2,}[^A-Za-z]+[A-Za-z]|^[A-Z][a-z]{2,}$")
"""Two words at least, or one that begins like a label."""

SHOWN = ("aria-label", "title", "placeholder", "alt")
NOT_SPOKEN = re.compile(r"^[\w./#:\[\]=\"'*>^$~,()-]+$|^[MLCz0-9 .,-]+$|^--|^\^|\\[wds]")
"""Paths, selectors, patterns."""


def main() -> None:
    """Print ``place: text`` for everything, or for the folders that are named."""
    only = tuple(sys.argv[1:])
    for path in sorted(ROOT.rglob("*")):
        place = path.relative_to(ROOT)
        if place.parts[0] not in ("arkund", "docs", "README.md", "CONTRIBUTING.md"):
            continue
        if "vendor" in place.parts or "migrations" in place.parts or "decisions" in place.parts:
            continue
        if only and not str(place).startswith(only):
            continue
        read = {".html": _of_template, ".js": _of_script, ".py": _of_python, ".md": _of_document}
        for line, text in read.get(path.suffix, lambda content: iter(()))(
            path.read_text() if path.is_file() and path.suffix in read else ""
        ):
            words = " ".join(text.split())
            if SPOKEN.search(words) and not NOT_SPOKEN.search(words):
                print(f"{place}:{line}: {words}")


def _of_template(content: str) -> Iterator[tuple[int, str]]:
    plain = re.sub(r"{%.*?%}", lambda found: " " * len(found[0]), content, flags=re.S)
    for name in SHOWN:
        for found in re.finditer(rf'{name}="([^"]*)"', plain):
            yield plain.count("\n", 0, found.start()) + 1, found[1]
    bare = re.sub(r"<(script|style).*?</\1>", "", plain, flags=re.S)
    for found in re.finditer(r">([^<>]+)<", bare):
        yield bare.count("\n", 0, found.start()) + 1, found[1]


def _of_script(content: str) -> Iterator[tuple[int, str]]:
    for number, line in enumerate(content.split("\n"), start=1):
        code = re.sub(r"(^|\s)//.*", "", line)
        for found in re.finditer(r'"((?:[^"\\]|\\.)*)"|`((?:[^`\\]|\\.)*)`', code):
            yield number, found[1] or found[2] or ""


def _of_python(content: str) -> Iterator[tuple[int, str]]:
    tree = ast.parse(content)
    silent = {
        id(node.value)
        for node in ast.walk(tree)
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
    }
    inside = {
        id(part)
        for node in ast.walk(tree)
        if isinstance(node, ast.JoinedStr)
        for part in ast.walk(node)
        if part is not node
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr) and id(node) not in inside:
            parts = [p.value if isinstance(p, ast.Constant) else "…" for p in node.values]
            yield node.lineno, "".join(map(str, parts))
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value:
            spoken = id(node) not in silent and id(node) not in inside
            yield from [(node.lineno, node.value)] * spoken


def _of_document(content: str) -> Iterator[tuple[int, str]]:
    is_code = False
    for number, line in enumerate(content.split("\n"), start=1):
        is_code ^= line.startswith("```")
        if not is_code and not line.startswith("|--"):
            yield number, line


if __name__ == "__main__":
    main()
