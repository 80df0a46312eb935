"""Values as fields of a type keep them."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from openmeadow.core.errors import Refused
from openmeadow.core.fields import FieldType, checked_name, kept
from openmeadow.core.message.personalisation import conditions_changed, field_renamed
from openmeadow.core.rules.renaming import renamed_text

NUMBER, DATE = FieldType.NUMBER, FieldType.DATE


@pytest.mark.parametrize(
    ("value", "kind", "style", "is_kept"),
    [
        (" 12 ", NUMBER, "", "12"),
        ("-12.50", NUMBER, "", "-12.50"),
        ("12,5", NUMBER, "", "12.5"),
        ("0,125", NUMBER, "", "0.125"),
        ("1,234", NUMBER, "", None),
        ("1,234.5", NUMBER, "", "1234.5"),
        ("1.234,5", NUMBER, "", "1234.5"),
        ("1 234 567,5", NUMBER, "", "1234567.5"),
        ("1\u202f234", NUMBER, "", "1234"),
        ("1,234,567", NUMBER, "", "1234567"),
        ("12 seats", NUMBER, "", None),
        ("", NUMBER, "", None),
        ("2026-03-12", DATE, "", "2026-03-12"),
        ("2026-03-12T23:30:00+02:00", DATE, "day first", "2026-03-12T23:30:00+02:00"),
        ("2026-02-30", DATE, "", None),
        ("12.03.2026", DATE, "", None),
        ("12.03.2026", DATE, "day first", "2026-03-12"),
        ("03/12/1980", DATE, "month first", "1980-03-12"),
        ("soon", DATE, "day first", None),
        (" soon ", FieldType.TEXT, "", "soon"),
    ],
)
def test_a_value_is_kept_as_its_type_says(value: str, kind: FieldType, style: str, is_kept: str | None) -> None:
    assert kept(value, kind, style) == is_kept


@given(st.dates(), st.sampled_from(["%d.%m.%Y", "%d/%m/%Y", "%d-%m-%Y"]), st.decimals(-(10**9), 10**9, places=2))
def test_what_is_kept_stays_as_it_is(day: date, form: str, figure: object) -> None:
    found = kept(day.strftime(form).zfill(10), DATE, "day first")
    assert found == (day.isoformat() if day.year >= 1000 else found)
    assert found is None or kept(found, DATE) == found
    written = f"{figure:,}".replace(",", " ").replace(".", ",")
    assert kept(written, NUMBER) == str(figure) == kept(str(figure), NUMBER)


@pytest.mark.parametrize("name", ["", "  ", "email", "Joined at", "First_name", "a:b", 'a"b', "x" * 81])
def test_a_name_that_an_import_could_not_tell_apart_is_refused(name: str) -> None:
    with pytest.raises(Refused):
        checked_name(name, {"email", "joined_at", "first_name"})
    assert checked_name("  Last   visit ", {"email"}) == "Last visit"


@pytest.mark.parametrize(
    ("text", "after"),
    [
        ("town {{ town }} {{town|upper}}", "town {{ place }} {{place|upper}}"),
        (
            "{% if town is defined and x.town %}{{ town or 'town' }}",
            "{% if place is defined and x.town %}{{ place or 'town' }}",
        ),
        ("{{ name|town }} {{ town", "{{ name|town }} {{ town"),
        ("{{ towns }} {# town #}", "{{ towns }} {# town #}"),
        ("{{ town", "{{ town"),
    ],
)
def test_a_merge_field_is_renamed_and_nothing_else(text: str, after: str) -> None:
    assert field_renamed(text, "town", "place") == after


@pytest.mark.parametrize(
    ("text", "after"),
    [
        (
            """{% if matches('field "Town" is "town"') %}{{ town }}{% endif %} "town" """,
            """{% if matches('field "place" is "town"') %}{{ town }}{% endif %} "town" """,
        ),
        ('{% if matches("field \\"town\\" is \\"a\\"") %}', '{% if matches("field \\"place\\" is \\"a\\"") %}'),
        ("{% if matches('band is Strong') %}town", "{% if matches('band is Strong') %}town"),
        ("{% if matches('field \"town') %}", "{% if matches('field \"town') %}"),
    ],
)
def test_a_rule_in_a_message_is_renamed_and_its_values_stay(text: str, after: str) -> None:
    assert conditions_changed(text, lambda rule: renamed_text(rule, "field", "town", "place")) == after
