"""Imports go one way: web, cli, worker -> desk -> store, wire -> core; the stand-ins know neither store nor desk."""

from __future__ import annotations

import ast
from pathlib import Path

import openmeadow

ROOT = Path(openmeadow.__file__).parent
MAY = {
    "core": {"core"},
    "store": {"store", "core"},
    "wire": {"wire", "core"},
    "desk": {"desk", "store", "wire", "core", "clock"},
    "standins": {"standins", "core", "wire"},
    "web": {"web", "desk", "store", "wire", "core", "clock"},
    "clock": set(),
}
OUTSIDE_CORE = {"flask", "sqlite3", "socket", "smtplib", "http", "urllib", "time", "random", "secrets", "dns", "aiosmtpd"}


def imports(path: Path) -> set[str]:
    out = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            out |= {a.name for a in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            out |= {f"{node.module}.{a.name}" for a in node.names} | {node.module}
    return out


def test_arrows_go_one_way() -> None:
    wrong = []
    for path in ROOT.rglob("*.py"):
        layer = path.relative_to(ROOT).parts[0].removesuffix(".py")
        for name in imports(path):
            head, _, rest = name.partition(".")
            if head == "openmeadow" and rest and layer in MAY:
                target = rest.split(".")[0]
                if target not in MAY[layer] | {"data"} and (ROOT / target).exists():
                    wrong.append(f"{path.relative_to(ROOT)} imports {name}")
            if layer == "core" and head in OUTSIDE_CORE:
                wrong.append(f"{path.relative_to(ROOT)} imports {name}")
    assert not wrong


def test_sql_lives_in_the_store() -> None:
    """Statements that write are in store alone; the desk and the web may read by a bound SELECT."""
    for path in ROOT.rglob("*.py"):
        if path.relative_to(ROOT).parts[0] == "store":
            continue
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                assert not node.value.startswith(("INSERT ", "UPDATE ", "DELETE FROM ")), (path.name, node.value[:40])
