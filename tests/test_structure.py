"""The structure that the folders promise: layers, no import circles, short functions, plain names."""

from __future__ import annotations

import ast
import builtins
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import openmeadow

ROOT = Path(openmeadow.__file__).parent
MAY_IMPORT = {
    "core": {"core"},
    "store": {"store", "core"},
    "net": {"net", "core"},
    "services": {"services", "store", "net", "core"},
    "web": {"web", "services", "store", "net", "core"},
    "worker": {"worker", "services", "store", "net", "core"},
    "demo": {"demo", "services", "store", "net", "core"},
    "cli": {"cli", "web", "worker", "demo", "services", "store", "net", "core"},
    "__main__": {"cli"},
}
OUTSIDE_CORE = {"flask", "sqlite3", "socket", "smtplib", "http", "urllib", "time", "random", "secrets", "dns", "aiosmtpd"}


@cache
def modules() -> dict[str, ast.Module]:
    """Every module of the package by its dotted name."""
    found = {}
    for path in sorted(ROOT.rglob("*.py")):
        parts = path.relative_to(ROOT.parent).with_suffix("").parts
        found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = ast.parse(path.read_text(encoding="utf-8"))
    return found


def imports(tree: ast.AST) -> Iterator[tuple[str, int]]:
    """Names of imported modules and where, inside functions too."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from ((a.name, node.lineno) for a in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            for a in node.names:
                full = f"{node.module}.{a.name}"
                yield (full if full in modules() else node.module), node.lineno


def test_arrows_go_one_way() -> None:
    wrong = []
    for name, tree in modules().items():
        if name == "openmeadow":
            continue
        layer = name.split(".")[1]
        for target, line in imports(tree):
            parts = target.split(".")
            if parts[0] == "openmeadow" and parts[1] not in MAY_IMPORT[layer]:
                wrong.append(f"{name}:{line} imports {target}")
            if layer == "core" and parts[0] in OUTSIDE_CORE:
                wrong.append(f"{name}:{line} imports {target}")
    assert not wrong


def test_no_module_imports_itself_by_way_of_others() -> None:
    arrows = {
        name: {target for target, _ in imports(tree) if target in modules() and target != name}
        for name, tree in modules().items()
    }
    path: list[str] = []
    done: set[str] = set()

    def visit(name: str) -> None:
        assert name not in path, "a circle: " + " → ".join([*path[path.index(name) :], name])
        if name in done:
            return
        path.append(name)
        for target in sorted(arrows[name]):
            visit(target)
        path.pop()
        done.add(name)

    for name in sorted(arrows):
        visit(name)


def functions(tree: ast.AST) -> Iterator[ast.FunctionDef | ast.AsyncFunctionDef]:
    return (n for n in ast.walk(tree) if isinstance(n, ast.FunctionDef | ast.AsyncFunctionDef))


def test_no_function_is_longer_than_a_screen() -> None:
    long = [
        f"{name}.{f.name}: {(f.end_lineno or 0) - f.lineno + 1} lines"
        for name, tree in modules().items()
        for f in functions(tree)
        if (f.end_lineno or 0) - f.lineno + 1 > 60
    ]
    assert not long


def test_no_name_shadows_a_builtin() -> None:
    known = set(dir(builtins)) - {"copyright", "credits", "exit", "license", "quit"}
    wrong = []
    for name, tree in modules().items():
        for f in functions(tree):
            arguments = [*f.args.posonlyargs, *f.args.args, *f.args.kwonlyargs]
            wrong += [f"{name}.{f.name}({a.arg})" for a in arguments if a.arg in known]
        fields = {
            id(n.target)
            for c in ast.walk(tree)
            if isinstance(c, ast.ClassDef)
            for n in c.body
            if isinstance(n, ast.AnnAssign)
        }  # of models and rows: reached by their owner alone
        wrong += [
            f"{name}:{n.lineno} {n.id}"
            for n in ast.walk(tree)
            if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store) and n.id in known and id(n) not in fields
        ]
    assert not wrong


def test_statements_live_in_the_store() -> None:
    verbs = ("SELECT ", "INSERT ", "UPDATE ", "DELETE FROM ", "WITH ")
    wrong = [
        f"{name}:{n.lineno} {n.value[:40]}"
        for name, tree in modules().items()
        if not name.startswith("openmeadow.store")
        for n in ast.walk(tree)
        if isinstance(n, ast.Constant) and isinstance(n.value, str) and n.value.startswith(verbs) and n.value.isascii()
    ]
    assert not wrong


# words that nobody in the trade uses for these things; "|" divides them
DIALECT = re.compile(
    r"\b(hand(ed|s|ing)? over|pass(ed)? over|in doubt|lets? go|by lot|held back|lead batch|once more|sieve|frozen cop(y|ies)"
    r"|plain-text twin|throw-away|look-ups?|mail hosts?|name servers?|br(ing|ought) in|t(ake|aken|ook) back|not now|unanswered"
    r"|silent(?!: true)|veiled|awaiting|clean-up|whoever|somebody|anybody|everybody|nobody|mended?|rungs?|lanes?|overrul(e|ed)"
    r"|second pair of eyes|placement boxes|picture|went out|goes out|going out|stand-ins?|came by)\b",
    re.IGNORECASE,
)
KEPT = ("openmeadow.store.upgrade", "openmeadow.demo.data")  # what a workspace of before said; made-up prose


def sentences() -> Iterator[tuple[str, str]]:
    """(place, text) of every string that is not a docstring, and of the front end without its comments."""
    for name, tree in modules().items():
        if name.startswith(KEPT):
            continue
        documents = {
            id(n.body[0].value)
            for n in ast.walk(tree)
            if isinstance(n, ast.Module | ast.ClassDef | ast.FunctionDef) and n.body and isinstance(n.body[0], ast.Expr)
        }
        for n in ast.walk(tree):
            if isinstance(n, ast.Constant) and isinstance(n.value, str) and id(n) not in documents:
                yield f"{name}:{n.lineno}", n.value
    for path in sorted((ROOT.parent / "frontend" / "src").rglob("*.ts*")):
        if path.name != "types.ts" and ".test." not in path.name:
            text = re.sub(r"/\*.*?\*/", "", path.read_text(encoding="utf-8"), flags=re.S)
            for number, line in enumerate(re.sub(r"(?<![:\"'])//.*", "", text).split("\n"), 1):
                yield f"{path.name}:{number}", line


def test_one_plain_language() -> None:
    wrong = [f"{place} {m.group()}" for place, text in sentences() for m in DIALECT.finditer(text)]
    assert not wrong, "\n".join(wrong)


def test_states_in_sql_come_from_their_enums() -> None:
    """Bound as parameters, or written from the enum where a partial index needs the literal."""
    wrong = []
    for name, tree in modules().items():
        if name.startswith("openmeadow.store.") and name not in KEPT:
            for n in ast.walk(tree):
                text = n.value if isinstance(n, ast.Constant) and isinstance(n.value, str) else ""
                wrong += [(name, w) for w in re.findall(r"\bstate (?:=|<>|IN) \(?'[\w ]+'", text)]
    assert not wrong


def test_the_drawing_is_of_the_imports() -> None:
    """Every import follows arrows of docs/architecture.md, and every arrow is one that somewhere is imported along."""
    drawn = re.findall(r"^  (\w+)(?:\[[^\]]*\])? --> (\w+)", (ROOT.parent / "docs/architecture.md").read_text(), re.M)
    below: dict[str, set[str]] = {}
    for above, under in drawn:
        below.setdefault(above, set()).add(under)

    def reach(layer: str) -> set[str]:
        return {layer}.union(*(reach(x) for x in below.get(layer, ())))

    found = {
        (name.split(".")[1], target.split(".")[1])
        for name, tree in modules().items()
        for target, _ in imports(tree)
        if name.count(".") and target.startswith("openmeadow.")
    }
    crossing = {(a, b) for a, b in found if a not in (b, "__main__")}
    assert {(a, b) for a, b in crossing if b not in reach(a)} == set()
    assert set(drawn) <= crossing and len(drawn) == 10
