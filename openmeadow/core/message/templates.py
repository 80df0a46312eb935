"""The little language of merge fields: Jinja without what could run long or grow large.

Each expression is looked at once: no loops, no repetition, no calls but of a few. What a template makes is therefore at
most as long as its own text with every field filled in, and takes as many steps as it has parts.
"""

from __future__ import annotations

from typing import Any

from jinja2 import TemplateError, TemplateSyntaxError, Undefined, nodes
from jinja2.sandbox import SandboxedEnvironment

from openmeadow.core.errors import MeadowError

LONGEST, MOST_PARTS = 1_000_000, 20_000  # characters of one text; parts of its template
FILTERS = {
    "default",
    "d",
    "upper",
    "lower",
    "title",
    "capitalize",
    "trim",
    "e",
    "escape",
    "first",
    "last",
    "length",
    "int",
}
METHODS = {"upper", "lower", "title", "capitalize", "strip", "split", "startswith", "endswith"}
CALLS = {"matches", "_link", "_trap", "_image"}
TESTS = {"defined", "undefined", "none", "string", "number", "odd", "even", "eq", "ne", "lt", "gt", "le", "ge", "in"}
_WORDS: dict[type[nodes.Node], str] = {
    nodes.For: "Loops cannot be used in a message",
    nodes.Mul: "Nothing can be repeated in a message",
    nodes.Pow: "Nothing can be repeated in a message",
    nodes.Mod: "“%” cannot be used in a message",
    nodes.Assign: "Nothing can be set in a message",
    nodes.AssignBlock: "Nothing can be set in a message",
    nodes.Macro: "Macros cannot be used in a message",
}
_ALLOWED: tuple[type[nodes.Node], ...] = (
    nodes.Template,
    nodes.Output,
    nodes.TemplateData,
    nodes.Name,
    nodes.Const,
    nodes.If,
    nodes.CondExpr,
    nodes.Or,
    nodes.And,
    nodes.Not,
    nodes.Compare,
    nodes.Operand,
    nodes.Concat,
    nodes.Add,
    nodes.Sub,
    nodes.Neg,
    nodes.Getattr,
    nodes.Getitem,
    nodes.Tuple,
    nodes.List,
    nodes.Keyword,
)


class FieldMistake(MeadowError):
    """A merge field that cannot be filled in."""


def _refusal(node: nodes.Node) -> str:
    """Why a part cannot be used; "" where it can."""
    if isinstance(node, nodes.Filter):
        return "" if node.name in FILTERS else f"The filter “{node.name}” cannot be used in a message"
    if isinstance(node, nodes.Test):
        return "" if node.name in TESTS else f"The test “{node.name}” cannot be used in a message"
    if isinstance(node, nodes.Call):
        called = node.node
        good = (isinstance(called, nodes.Name) and called.name in CALLS) or (
            isinstance(called, nodes.Getattr) and called.attr in METHODS
        )
        return "" if good else "Only merge fields and conditions can be used in a message"
    if isinstance(node, nodes.Getattr) and node.attr.startswith("_"):
        return f"“{node.attr}” cannot be used in a message"
    if type(node) in _ALLOWED:
        return ""
    return _WORDS.get(type(node), f"“{type(node).__name__.lower()}” cannot be used in a message")


class _Refusal(TemplateSyntaxError):
    """Something that a message may not use, with a sentence of our own."""


def mistake(e: TemplateError) -> str:
    """What is wrong with a text, as a sentence."""
    if isinstance(e, _Refusal):
        return f"A merge field cannot be used: {e.message}."
    line = f" in line {e.lineno}" if isinstance(e, TemplateSyntaxError) and e.lineno > 1 else ""
    return f'A merge field{line} cannot be read. Write it like {{{{ first_name or "friend" }}}}, with both pairs of brackets.'


class _Environment(SandboxedEnvironment):
    """Parses as always, then looks at each part once."""

    def _parse(self, source: str, name: str | None, filename: str | None) -> nodes.Template:
        if len(source) > LONGEST:
            raise _Refusal(f"it has {len(source):,} characters; the limit is {LONGEST:,}", 1)
        try:
            template = super()._parse(source, name, filename)
        except RecursionError:
            raise _Refusal("its brackets are nested too deep", 1) from None
        waiting: list[nodes.Node] = [template]
        parts = 0
        while waiting:
            node = waiting.pop()
            parts += 1
            if parts > MOST_PARTS:
                raise _Refusal(f"it has more than {MOST_PARTS:,} parts", getattr(node, "lineno", 1))
            if refusal := _refusal(node):
                raise _Refusal(refusal, getattr(node, "lineno", 1))
            waiting.extend(node.iter_child_nodes())
        return template

    def compile(self, *arguments: Any, **named: Any) -> Any:
        try:
            return super().compile(*arguments, **named)
        except (RecursionError, MemoryError):
            raise _Refusal("its parts are nested too deep", 1) from None


def _environment(html: bool) -> SandboxedEnvironment:
    return _Environment(autoescape=html, undefined=Undefined, trim_blocks=True)


HTML, TEXT = _environment(True), _environment(False)
