"""Links get the workspace's parameters."""

from __future__ import annotations

import pytest

from openmeadow.net.link_parameters import with_parameters


@pytest.mark.parametrize(
    ("url", "pattern", "leads"),
    [
        (
            "https://x.example/a#top",
            "utm_source=news&utm_campaign={campaign}",
            "utm_source=news&utm_campaign=Harbour%20%26%20co#top",
        ),
        ("https://x.example/a?utm_source=shop", "?utm_source=news&utm_medium=email", "?utm_source=shop&utm_medium=email"),
        ("https://x.example/a?UTM_Source=1", "utm_source=news", "?UTM_Source=1"),
        ("https://x.example/a", "", "/a"),
    ],
)
def test_links_get_the_workspace_s_parameters(url: str, pattern: str, leads: str) -> None:
    assert with_parameters(url, pattern, {"campaign": "Harbour & co"}).endswith(leads)
