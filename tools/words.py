"""Every text that a person can see, by file: listed, and checked against words to avoid.

``python -m tools.words`` prints the list to be read, ``--check`` only what is wrong in it.
Texts are found in the source (``ast``), in the TOML files that ship and in the documents.
"""

import argparse
import ast
import re
import sys
import tomllib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
# Calls whose texts nobody reads, and calls whose texts are read even when they are one small word.
CODE_CALLS = {
    "TypeVar", "cast", "compile", "encode", "endswith", "findall", "fullmatch", "get", "getattr",
    "getenv", "hasattr", "import_module", "match", "object_name", "print_debug", "search",
    "setObjectName", "setProperty", "setattr", "startswith", "strptime", "sub",
}  # fmt: skip
SHOWN_CALLS = {
    "ChoiceRow", "Command", "Elided", "Field", "Fold", "QAction", "QCheckBox", "QLabel",
    "QPushButton",
    "QToolButton", "Toggle", "addAction", "addItem", "button", "caption", "heading", "label",
    "name_it", "percent", "setAccessibleDescription", "setAccessibleName", "setPlaceholderText",
    "setText", "setToolTip", "setWindowTitle", "small", "small_button", "title", "toggle",
}  # fmt: skip
MOST_ON_A_BUTTON = 34  # letters
# What the trade does not say: a pattern, and what to say.
AVOID: tuple[tuple[str, str], ...] = (
    (r"\banew\b", "again"),
    (r"\bso (many|much|often)\b(?! (as|that|beats))", "how many, at most, that many times"),
    (r"\ball of it\b", "the whole loop, the whole line, everything"),
    (r"\b(let|lets|letting) go\b", "detach, remove, stop"),
    (r"\btak(e|es|en|ing) (it |this |that )?out\b", "delete, remove"),
    (r"\b(is|are|be) (not )?heard\b(?! (in|at|from|alone) )", "plays, is on, sounds"),
    (r"\b(heard|hear) alone\b", "soloed, solo"),
    (r"\bstruck\b|\bstrikes? (it|the|a|every)\b", "play, hit, onset"),
    (r"\bbehind\b(?! (the|a) (beat|keys|lead|pad|window|glass|metal|door)\b)", "after, late"),
    (r"\bturn(s|ed)? round\b", "reverse"),
    (r"\bparked\b", "off"),
    (r"\blaid? (in|on|out|over|instead)\b", "placed, used, set"),
    (r"\bhand(ed|s) (on(?! a)|over)\b(?!\|)", "passed on, delivered"),
    (r"\brow of chords\b|\bchord row\b", "progression"),
    (
        r"\b(draw|another draw|draws) \d|\banother draw\b|\bdraw an order\b|\bdraw a form\b",
        "variation, suggest",
    ),
    (r"\bevery second\b", "every other"),
    (r"\b(is|are) not there\b|\bnot there any more\b", "missing, no longer exists"),
    (r"(?<!there )\bis no (?!longer)[a-z]", "is not a"),
    (r"\bno [a-z ]+ is called\b", "there is no … called"),
    (r"\blook (again|closer|farther)\b", "rescan, zoom in, zoom out"),
    (r"\bloudness spread\b", "velocity spread"),
    (r"\btrial voice\b", "guide vocal"),
    (r"\bcoming in\b", "input"),
    (r"\bforget\b", "delete"),
    (r"\bput right\b|\bput down\b", "corrected, recorded"),
    (r"\b(nobody|somebody)\b", "no one, a person"),
    (r"\bby tape\b", "like tape"),
    (r"\bthe pitch held\b|\bits pitch held\b|\blength held\b", "keep the pitch, keep length"),
    (r"\bsofter\b", "quieter"),
    (r"\bmishap\b", "unexpected error"),
    (r"\bmoments\b", "history, steps, windows"),
    (r"\bpress (it|one|here|to|a|on)\b", "click"),
)


@dataclass(frozen=True)
class Text:
    """A text in a file: where it begins, what it says (values as ``{…}``), whether a button says "
    "it."""

    path: Path
    line: int
    text: str
    button: bool = False


def _name(node: ast.expr) -> str:
    if isinstance(node, ast.Attribute):
        return node.attr
    return node.id if isinstance(node, ast.Name) else ""


def _joined(node: ast.JoinedStr) -> str:
    parts = []
    for part in node.values:
        if isinstance(part, ast.Constant):
            parts.append(str(part.value))
        elif isinstance(part, ast.FormattedValue):
            parts.append("{" + ast.unparse(part.value) + "}")
    return "".join(parts)


class _Reader(ast.NodeVisitor):
    """Collects texts, leaving out docstrings, annotations, exports, keys and patterns."""

    def __init__(self, path: Path) -> None:
        self.path, self.found, self.call = path, list[Text](), ""
        self.buttons = set[int]()  # the nodes that are what a button says

    def visit_Expr(self, node: ast.Expr) -> None:
        if not isinstance(node.value, ast.Constant):
            self.generic_visit(node)

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        if node.value:
            self.visit(node.value)

    def visit_arg(self, node: ast.arg) -> None:
        """An argument's annotation is code."""

    def visit_Subscript(self, node: ast.Subscript) -> None:
        self.visit(node.value)

    def visit_Assign(self, node: ast.Assign) -> None:
        if _name(node.targets[0]) not in ("__all__", "__slots__"):
            self.generic_visit(node)

    def visit_FunctionDef(self, node: ast.FunctionDef) -> None:
        if any(ast.unparse(one).startswith("click.") for one in node.decorator_list):
            said = ast.get_docstring(node) or ""  # the help of a command
            self.found.append(Text(self.path, node.lineno + 1, said))
        for part in (*node.decorator_list, *node.args.defaults, *node.args.kw_defaults, *node.body):
            if part is not None:
                self.visit(part)

    def visit_Dict(self, node: ast.Dict) -> None:
        for value in node.values:
            self.visit(value)

    def visit_Call(self, node: ast.Call) -> None:
        before, called = self.call, _name(node.func)
        if called in CODE_CALLS:
            return
        self.call = called
        if called == "button" and node.args:
            self.buttons.add(id(node.args[0]))
        self.generic_visit(node)
        self.call = before

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        self._add(node, _joined(node))
        for part in node.values:
            if isinstance(part, ast.FormattedValue):
                self.visit(part.value)

    def visit_Constant(self, node: ast.Constant) -> None:
        if isinstance(node.value, str):
            self._add(node, node.value)

    def _add(self, node: ast.expr, text: str) -> None:
        said = re.sub(r"\{[^}]*\}", "", text)
        if not re.search(r"[^\W\d_]{2}", said) or re.fullmatch(r"[A-Z0-9_=|]+", said):
            return
        words = " " in said.strip() or re.search(r"[A-Z][a-z]", said) or "{" in text
        if words or self.call in SHOWN_CALLS:
            self.found.append(Text(self.path, node.lineno, text, id(node) in self.buttons))


def in_source(path: Path) -> list[Text]:
    """Return the texts of a Python module that are more than a name, in order."""
    reader = _Reader(path)
    reader.visit(ast.parse(path.read_text("utf-8")))
    return sorted(reader.found, key=lambda text: text.line)


def _in_value(path: Path, value: object) -> Iterator[Text]:
    if isinstance(value, dict):
        for inner in value.values():
            yield from _in_value(path, inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _in_value(path, inner)
    elif isinstance(value, str) and " " in value:
        yield Text(path, 0, value)


def in_document(path: Path) -> list[Text]:
    """Return the lines of a document in Markdown, without what is code in it."""
    prose = re.sub(r"```.*?```", lambda block: "\n" * block[0].count("\n"), path.read_text("utf-8"),
                   flags=re.DOTALL)  # fmt: skip
    lines = enumerate(re.sub(r"`[^`\n]*`", "", prose).splitlines(), 1)
    return [Text(path, n, line) for n, line in lines if line.strip()]


def all_texts(root: Path = ROOT) -> list[Text]:
    """Return every text of the program and its documents."""
    found = []
    for path in sorted((root / "cloudrift").rglob("*.py")):
        found += in_source(path)
    for path in sorted((root / "cloudrift").rglob("*.toml")):
        found += _in_value(path, tomllib.loads(path.read_text("utf-8")))
    for path in [root / "README.md", *sorted((root / "docs").glob("*.md"))]:
        found += in_document(path)
    return found


def findings(texts: Iterable[Text]) -> list[str]:
    """Return what is wrong with texts, in words: where, the text, and what to say instead."""
    wrong = []
    for text in texts:
        said = re.sub(r"\{[^}]*\}", "…", text.text)
        where = f"{text.path.relative_to(ROOT)}:{text.line}: {text.text!r}"
        wrong += [f"{where}: say {better}" for pattern, better in AVOID
                  if re.search(pattern, said, re.IGNORECASE)]  # fmt: skip
        if text.button and len(said) > MOST_ON_A_BUTTON:
            wrong.append(f"{where}: {len(said)} letters on a button, at most {MOST_ON_A_BUTTON}")
    return wrong


def main() -> int:
    """Print the list, or what is wrong in it; return 1 where something is."""
    parser = argparse.ArgumentParser(description="Every text that a person can see.")
    parser.add_argument("--check", action="store_true", help="only what is wrong")
    parser.add_argument("paths", nargs="*", help="only files whose path has one of these in it")
    args = parser.parse_args()
    texts = [t for t in all_texts() if not args.paths or any(p in str(t.path) for p in args.paths)]
    wrong = findings(texts)
    if not args.check:
        last = None
        for text in texts:
            if text.path != last:
                print(f"\n{text.path.relative_to(ROOT)}")
                last = text.path
            print(f"{text.line:5} {text.text!r}")
    print("\n".join(wrong), file=sys.stderr)
    return int(bool(wrong))


if __name__ == "__main__":
    sys.exit(main())
