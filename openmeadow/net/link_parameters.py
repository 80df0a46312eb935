"""Parameters for web statistics at the end of an address."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import parse_qsl, quote, urlsplit

from openmeadow.core.message.links import with_part


def with_parameters(url: str, pattern: str, names: Mapping[str, str]) -> str:
    """An address with the parameters of a pattern (``utm_source=news&utm_campaign={campaign}``) that it does not have
    yet; ``names`` fill what stands in braces."""
    there = {key.lower() for key, _ in parse_qsl(urlsplit(url).query, keep_blank_values=True)}
    for part in filter(None, pattern.strip().lstrip("?&").split("&")):
        key, sign, value = part.partition("=")
        if sign and key.lower() not in there:
            for name, of in names.items():
                value = value.replace(f"{{{name}}}", of)
            url = with_part(url, f"{quote(key)}={quote(value)}")
    return url
