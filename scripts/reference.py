"""Writes the pages of docs/reference/ that the code itself can tell: commands, settings, API. Run by ``make docs``;
a test holds the pages against the code."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from openmeadow.cli.main import main
from openmeadow.core.settings import GROUPS, SETTINGS, Setting
from openmeadow.web.describe import description

FOLDER = Path(__file__).resolve().parents[1] / "docs" / "reference"
MADE = "\n*Made from the code by `make docs`; change it there.*\n"


def _cell(text: str) -> str:
    return re.sub(r"\s+", " ", text).strip().replace("|", "\\|")


def _walk(command: click.Command, before: str) -> Iterator[tuple[str, click.Command]]:
    """(whole name, command), in the order of their names; commands that nobody calls by hand are left out."""
    if isinstance(command, click.Group):
        context = click.Context(command)
        for name in command.list_commands(context):
            found = command.get_command(context, name)
            if found is not None and not found.hidden:
                yield from _walk(found, f"{before} {name}")
    if not isinstance(command, click.Group) or command.invoke_without_command:
        yield before, command


def _option(parameter: click.Parameter) -> str:
    if isinstance(parameter, click.Argument):
        return f"| `{parameter.make_metavar(click.Context(click.Command('')))}` | |"
    assert isinstance(parameter, click.Option)
    kind = parameter.type
    values = f" {'|'.join(map(str, kind.choices))}" if isinstance(kind, click.Choice) else ""
    if not values and not parameter.is_flag:
        values = f" {parameter.make_metavar(click.Context(click.Command('')))}"
    told = (parameter.help or "") + (" Required." if parameter.required else "")
    return f"| `{', '.join(parameter.opts)}{values}` | {_cell(told)} |"


def commands() -> str:
    """Every command with its arguments and options."""
    out = ["# Commands", MADE]
    out.append(
        "`meadow --data FOLDER COMMAND`; the folder may stand in `MEADOW_DATA`. Exit status 0: done; 1: refused, with a"
    )
    out.append("sentence; 2: wrong use. `meadow COMMAND --help` says the same as this page.\n")
    for name, command in _walk(main, "meadow"):
        out += [f"## {name}", _cell(command.help or ""), ""]
        rows = [_option(p) for p in command.params if not getattr(p, "hidden", False) and p.name not in ("help", "data")]
        if rows:
            out += ["| | |", "|---|---|", *rows, ""]
    return "\n".join(out)


def _default(setting: Setting) -> str:
    return "—" if setting.default in ("", None) else f"`{_cell(json.dumps(setting.default, ensure_ascii=False))}`"


def settings() -> str:
    """Every setting with its range, default and help."""
    out = ["# Settings", MADE, "On **Settings**, or `meadow set NAME VALUE`.\n"]
    for group in GROUPS:
        out += [f"## {group}", "| setting | what | values | default |", "|---|---|---|---|"]
        for s in SETTINGS.values():
            if s.group == group:
                out.append(f"| `{s.name}` | **{s.label}**. {_cell(s.help)} | {_cell(s.range)} | {_default(s)} |")
        out.append("")
    return "\n".join(out)


def _takes(operation: dict[str, Any]) -> str:
    """Names of what a request gives: a body's fields and the query's."""
    given = [f"?{p['name']}" for p in operation.get("parameters", []) if p["in"] == "query"]
    for kind, content in operation.get("requestBody", {}).get("content", {}).items():
        schema = content["schema"]
        given.append(f"`{schema['$ref'].rpartition('/')[2]}`" if "$ref" in schema else kind)
    return ", ".join(given)


def api() -> str:
    """Every request, who may make it and what it takes."""
    told = description()
    paths: Any = told["paths"]
    out = ["# API", MADE]
    out.append(
        "JSON over HTTP, with a session's cookie or `Authorization: Bearer` and a token. `/api/openapi.json` describes every"
    )
    out.append(
        'field; here is what there is. A refusal is `{"error": …, "place": …, "fits": […]}` with a status of 400 to 429.\n'
    )
    groups: dict[str, list[str]] = {}
    for path, operations in paths.items():
        for method, o in operations.items():
            roles = ", ".join(o.get("x-roles", []))
            row = f"| {method.upper()} | `{path}` | {_cell(o['summary'])} | {_takes(o)} | {roles} |"
            groups.setdefault(path.split("/")[2], []).append(row)
    for group in sorted(groups):
        out += [f"## {group}", "| | | | takes | may |", "|---|---|---|---|---|", *groups[group], ""]
    return "\n".join(out)


def pages() -> dict[str, str]:
    """What each file holds, by its name."""
    made = {"commands.md": commands(), "settings.md": settings(), "api.md": api()}
    return {name: text.rstrip() + "\n" for name, text in made.items()}


if __name__ == "__main__":
    FOLDER.mkdir(parents=True, exist_ok=True)
    for name, text in pages().items():
        (FOLDER / name).write_text(text, encoding="utf-8")
