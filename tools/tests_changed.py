"""Print the test files that what has changed since the last commit can matter to, one a line.

A test file depends on the modules that it imports, anywhere in it, and on all that those import;
one that asks for a window or a session, on the whole desktop. ``make test-changed`` runs them.
"""

import ast
import functools
import re
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path

import grimp

HOME = Path(__file__).resolve().parent.parent
EVERYTHING = ("tests/conftest.py", "tests/hands.py", "pyproject.toml", "requirements.txt")
# What fixtures that are asked for by name bring along.
BROUGHT = {
    "window": "cloudrift.desktop.frame.window", "session": "cloudrift.desktop.session.session",
    "run": "cloudrift.cli.main", "engine": "cloudrift.render",
}  # fmt: skip


def changed() -> set[str]:
    """Return the files that differ from the last commit, and new ones."""
    asked = (("diff", "--name-only", "HEAD"), ("ls-files", "--others", "--exclude-standard"))
    found = [subprocess.run(["git", *how], cwd=HOME, capture_output=True, text=True, check=True)
             for how in asked]  # fmt: skip
    return {line for one in found for line in one.stdout.splitlines()}


def modules_of(files: Iterable[str], graph: grimp.ImportGraph) -> set[str]:
    """Return the modules of files; of one that is no module, those of the package it lies in."""
    found: set[str] = set()
    for name in files:
        path = Path(name)
        if path.parts[0] != "cloudrift":
            continue
        module = ".".join(path.with_suffix("").parts).removesuffix(".__init__")
        if path.suffix == ".py" and module in graph.modules:
            found.add(module)
            continue
        package = ".".join(path.parent.parts)
        while package and package not in graph.modules:
            package = package.rpartition(".")[0]
        found |= {package, *(one for one in graph.modules if one.startswith(f"{package}."))}
    return found


def imported(path: Path, graph: grimp.ImportGraph) -> set[str]:
    """Return the modules of the program that a test file imports, or is brought by fixtures."""
    text = path.read_text()
    names: set[str] = set()
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Import):
            names |= {one.name for one in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names |= {node.module, *(f"{node.module}.{one.name}" for one in node.names)}
    for other in {one for one in names if one.startswith("tests.test_")}:
        names |= imported(HOME / f"{other.replace('.', '/')}.py", graph) if (
            HOME / f"{other.replace('.', '/')}.py").exists() else set()  # fmt: skip
    words = set(re.findall(r"\w+", text))
    names |= {module for word, module in BROUGHT.items() if word in words}
    if "subprocess" in words:  # the program itself
        names.add("cloudrift.__main__")
    return names & graph.modules


def main() -> int:
    """Print them."""
    tests = sorted((HOME / "tests").glob("test_*.py"))
    files = changed()
    if files & set(EVERYTHING):
        print(*(path.relative_to(HOME) for path in tests), sep="\n")
        return 0
    graph = grimp.build_graph("cloudrift")
    above = functools.cache(graph.find_upstream_modules)
    wanted = modules_of(files, graph)
    for path in tests:
        name = str(path.relative_to(HOME))
        needs = imported(path, graph)
        if name in files or any(one in wanted or above(one) & wanted for one in needs):
            print(name)
    return 0


if __name__ == "__main__":
    sys.exit(main())
