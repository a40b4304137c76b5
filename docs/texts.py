"""Every text that people read, gathered for translators, and those that are glued together (``make texts``).

Says which texts are in no catalogue, and where a sentence is made of parts: no translator can turn a part around.
"""

import ast
import re
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.pofile import write_po

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/askport"
CATALOGUE = SOURCE / "texts.pot"

SAYS = ("phrase", "Refused", "BadInput", "MachineRefused", "say")
"""What is called with a template first."""
SAYS_NAMED = frozenset({"help", "title", "says", "enter_does", "about"})
"""Arguments by name that are templates, wherever they stand."""
TABLES = frozenset({"ClueKind", "Step", "Loudness", "Touches", "Belief", "Basis", "CellState", "Turn", "Result"})
"""Enumerations the texts of which are said."""
NOT_READ = (
    "bench/",  # what devices say
    "core/formats/",  # the names of fields, as their standards write them
    "edges/keeper/", "edges/kernel/", "edges/by_group/",  # the keeper loads nothing else of ours
    "edges/growing.py", "edges/crew/founding.py", "edges/crew/server.py", "edges/jobfile.py",  # SQL
    "reports/sketch.py", "edges/door_pages.py",  # style sheets, and HTML
    "core/phrases.py", "cli/practising.py",  # begins a clause, and says how fast a clock goes
)  # fmt: skip
"""Where a text of words is none that is translated."""

_MOST_WORDS = 20
"""A sentence has at most so many (docs/voice.md)."""
_WORDS = re.compile(r"[A-Za-z]{2,}[,;:.)”’]* +[(“’']?[A-Za-z{]|\b [A-Za-z]{2,}|[A-Za-z]{3,}[:.]( |$)")
_TOUCHES = re.compile(r"[a-zA-Z,.]\{[a-z]|[a-z_0-9]\}[A-Za-z{]")
"""A value that a word touches: an ending, or a sentence that begins in another one."""
_NO_TEXT = re.compile(r"^(sudo |PRAGMA |ALTER |keeper: |[a-z.]+\{)")
"""What a shell, a database or a log is told."""
_NAMED = re.compile(r"\{[a-z_0-9]+\}")


@dataclass(frozen=True)
class Found:
    """One text, where it stands, and the form of it for several things."""

    file: str
    line: int
    text: str
    many: str = ""


def called(node: ast.Call) -> str:
    """Return the last name of what is called."""
    return node.func.id if isinstance(node.func, ast.Name) else getattr(node.func, "attr", "")


def text_of(node: ast.AST | None) -> str | None:
    """Return a text that is written there, or None."""
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else None


def templates_of(node: ast.Call, tree: ast.Module) -> list[str]:
    """Return what may be said there: the text, the branches of a choice, or what was given to a name before."""
    if called(node) == "phrase_of":
        return [text for each in node.args[1:] if (text := text_of(each))]
    if not node.args:
        return []
    wanted: list[ast.AST] = [node.args[0]]
    if isinstance(node.args[0], ast.Name):
        around = (each for each in ast.walk(tree) if isinstance(each, ast.FunctionDef) and node in ast.walk(each))
        wanted += [
            each.value
            for function in around
            for each in ast.walk(function)
            if isinstance(each, ast.Assign) and getattr(each.targets[0], "id", "") == node.args[0].id
        ]
    parts = [part for each in wanted for part in ((each.body, each.orelse) if isinstance(each, ast.IfExp) else (each,))]
    return [text for each in parts if (text := text_of(each))]


def names_in(tree: ast.Module) -> set[str]:
    """Return the constants, of whichever module, that are said in one."""
    calls = (each for each in ast.walk(tree) if isinstance(each, ast.Call) and called(each) in SAYS and each.args)
    return {each.args[0].id for each in calls if isinstance(each.args[0], ast.Name) and each.args[0].id.isupper()}


def texts_in(file: str, tree: ast.Module, named: set[str]) -> Iterator[Found]:
    """Yield the templates of one module; ``named`` are the constants that are said somewhere."""
    for node in ast.walk(tree):
        match node:
            case ast.Call() if called(node) == "Binding":
                yield from (Found(file, node.lineno, text) for each in node.args[2:3] if (text := text_of(each)))
            case ast.Call() if called(node) == "phrase_of" and len(node.args) == 3:
                yield Found(file, node.lineno, text_of(node.args[1]) or "", text_of(node.args[2]) or "")
            case ast.Call():
                if called(node) in SAYS:
                    yield from (Found(file, node.lineno, text) for text in templates_of(node, tree))
                for argument in node.keywords:
                    if argument.arg in SAYS_NAMED and (text := text_of(argument.value)):
                        yield Found(file, argument.value.lineno, text)
            case ast.ClassDef() if node.name in TABLES:
                for each in node.body:
                    for part in ast.walk(each) if isinstance(each, ast.Assign) else ():
                        if text := text_of(part):
                            yield Found(file, each.lineno, text)
            case ast.Assign(targets=[ast.Name(id=name)]) if name in named and (text := text_of(node.value)):
                yield Found(file, node.lineno, text)
            case ast.FunctionDef() if file.startswith("cli/") and any(
                "command" in ast.dump(x) for x in node.decorator_list
            ):
                if text := ast.get_docstring(node):
                    yield Found(file, node.lineno, text)


def glued_in(file: str, tree: ast.Module) -> Iterator[Found]:
    """Yield where a sentence is made of parts."""
    inside = {part for node in ast.walk(tree) if isinstance(node, ast.JoinedStr) for part in ast.walk(node)}
    for node in ast.walk(tree):
        match node:
            case ast.JoinedStr() if node not in inside - {node}:
                whole = "".join(text_of(each) or "{}" for each in node.values)
                if _WORDS.search(whole.replace("{}", " ")) and not _NO_TEXT.search(whole):
                    yield Found(file, node.lineno, whole)
            case ast.BinOp(op=ast.Add()):
                for each in (node.left, node.right):
                    if (text := text_of(each)) and _WORDS.search(text):
                        yield Found(file, node.lineno, f"+ {text}")
            case ast.Call() if called(node) in (*SAYS, "phrase_of"):
                for text in templates_of(node, tree):
                    if text != text.strip(" ,;") or text.startswith(":") or _TOUCHES.search(text):
                        yield Found(file, node.lineno, f"part: {text}")
            case ast.Call() if called(node) in ("upper", "capitalize") and isinstance(node.func, ast.Attribute):
                if isinstance(node.func.value, ast.Subscript):
                    yield Found(file, node.lineno, "a letter made large")


def long_in(text: str) -> Iterator[str]:
    """Yield the sentences of a text that have more words than one reads at a glance."""
    for sentence in re.split(r"(?<=[.!?])\s+", text):
        if len(re.findall(r"[A-Za-z{][\w'’{}-]*", sentence)) > _MOST_WORDS:
            yield sentence


def modules() -> Iterator[tuple[str, ast.Module]]:
    """Yield each module whose texts are read, by its path."""
    for path in sorted(SOURCE.rglob("*.py")):
        file = str(path.relative_to(SOURCE))
        if not file.startswith(NOT_READ):
            yield file, ast.parse(path.read_text())


def found() -> list[Found]:
    """Return all texts, with where they stand."""
    every = list(modules())
    named = {name for _, tree in every for name in names_in(tree)}
    return [each for file, tree in every for each in texts_in(file, tree, named)]


def catalogue() -> bytes:
    """Return the catalogue of all texts, the same for the same sources."""
    from io import BytesIO

    whole = Catalog(project="Ask Port", charset="utf-8")
    for each in found():
        if not any(map(str.isalpha, re.sub(r"\{[^}]*\}", "", each.text))):
            continue  # only values
        whole.add((each.text, each.many) if each.many else each.text, locations=[(each.file, 0)])
    written = BytesIO()
    write_po(written, whole, omit_header=True, sort_output=True, include_lineno=False)
    return written.getvalue()


def main() -> int:
    """Write the catalogue; with ``--check``, say whether it is as the sources are, and what is glued."""
    glued = [found for file, tree in modules() for found in glued_in(file, tree)]
    for each in glued:
        print(f"{each.file}:{each.line}: made of parts: {each.text[:90]!r}")
    long = [(each, sentence) for each in found() for sentence in long_in(each.text)]
    for each, sentence in long:
        print(f"{each.file}:{each.line}: more than {_MOST_WORDS} words: {sentence}")
    made = catalogue()
    if "--check" not in sys.argv:
        CATALOGUE.write_bytes(made)
    elif CATALOGUE.read_bytes() != made:
        print(f"{CATALOGUE.relative_to(ROOT)} has not every text: make texts")
        return 1
    return int(bool(glued or long))


if __name__ == "__main__":
    sys.exit(main())
