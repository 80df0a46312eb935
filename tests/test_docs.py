"""What the documentation says is there: pages made from the code, links, commands with their options, rules, settings."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import click
import pytest

from openmeadow.cli.main import main
from openmeadow.core.rules.parser import parse
from openmeadow.core.settings import SETTINGS
from scripts import reference

ROOT = Path(__file__).parents[1]
PAGES = sorted([*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md")])
BLOCK = re.compile(r"^```\w*\n(.*?)^```", re.M | re.S)
# words of an example that stand for something else
STAND_FOR = {"COMMAND", "NAME", "VALUE", "…"}


def test_reference_pages_are_those_of_the_code() -> None:
    for name, text in reference.pages().items():
        assert (ROOT / "docs/reference" / name).read_text(encoding="utf-8") == text, f"{name}: run make docs"


def _anchors(page: Path) -> set[str]:
    heads = re.findall(r"^#+ (.+)$", BLOCK.sub("", page.read_text(encoding="utf-8")), re.M)
    return {re.sub(r"[^\w\- ]", "", h.lower()).strip().replace(" ", "-") for h in heads}


@pytest.mark.parametrize("page", PAGES, ids=lambda p: str(p.relative_to(ROOT)))
def test_every_link_leads_somewhere(page: Path) -> None:
    links = re.findall(r"\]\(([^)\s]+)\)", page.read_text(encoding="utf-8"))
    for link in links:
        assert not link.startswith(("http:", "https:")), f"{link}: leads out of here"
        path, _, anchor = link.partition("#")
        there = (page.parent / path).resolve() if path else page
        assert there.exists(), link
        assert not anchor or anchor in _anchors(there), link


def test_every_page_is_on_the_map() -> None:
    linked = set(re.findall(r"\]\(([^)#]+\.md)", (ROOT / "docs/README.md").read_text(encoding="utf-8")))
    there = {str(p.relative_to(ROOT / "docs")) for p in (ROOT / "docs").rglob("*.md")} - {"README.md"}
    assert there <= linked, there - linked


def _commands(text: str) -> list[list[str]]:
    """Words of each command of ours in blocks and between backticks."""
    out = []
    spans = [line for block in BLOCK.findall(text) for line in block.splitlines()]
    spans += re.findall(r"`([^`]+)`", BLOCK.sub("", text))
    for span in spans:
        found = re.match(r"(?:.*?/)?(?:MEADOW_\w+=\S+ |sudo -u \w+ \S*/|podman run .*)?meadow (?!:)(.*)", span.strip())
        if found and not re.match(r"[a-z/]*meadow[.:/-]", span):
            words = shlex.split(re.sub(r"\s#.*|\s*\|.*", "", found.group(1)), posix=True)
            out.append(words)
    return out


@pytest.mark.parametrize("page", PAGES, ids=lambda p: str(p.relative_to(ROOT)))
def test_every_command_is_one_that_there_is(page: Path) -> None:
    if page.name == "CHANGELOG.md":  # tells of what was
        return
    for words in _commands(page.read_text(encoding="utf-8")):
        command: click.Command | None = main
        rest = list(words)
        while rest and isinstance(command, click.Group):
            word = rest.pop(0)
            if word == "--data":
                rest.pop(0)
            elif word in STAND_FOR or "|" in word:
                break
            elif not word.startswith("-"):
                command = command.get_command(click.Context(command), word)
                assert command is not None, (page.name, words)
        assert command is not None
        known = {o for p in command.params for o in (*p.opts, *p.secondary_opts)} | {"--help", "--data", "--json"}
        for word in rest:
            if word.startswith("-") and word != "-" and not isinstance(command, click.Group):
                assert word.split("=")[0] in known, (page.name, words, word)


def test_every_rule_that_is_shown_is_one() -> None:
    shown = (ROOT / "docs/rules.md").read_text(encoding="utf-8")
    rows = re.findall(r"^\| (`.+?) \|", shown.partition("A condition on a missing")[0], re.M)
    rules = [r for row in rows for r in re.findall(r"`([^`]+)`", row)]
    tutorial = [b.strip() for b in BLOCK.findall((ROOT / "docs/tutorial.md").read_text()) if "permitted" in b]
    assert len(rules) > 45 and tutorial
    for rule in [*rules, *tutorial]:
        parse(rule)


def test_every_setting_that_is_named_is_one() -> None:
    text = (ROOT / "docs/running.md").read_text(encoding="utf-8")
    named = set(re.findall(r"meadow set ([a-z_]+)", text))
    named |= {n for row in re.findall(r"^\| (`[a-z_`, ]+) \|", text, re.M) for n in re.findall(r"`(\w+)`", row)}
    assert len(named) > 7 and named <= set(SETTINGS), named - set(SETTINGS)
