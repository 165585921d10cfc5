import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content import fillins


@pytest.mark.parametrize(("text", "ref", "fallback", "filters"), [
    ("{{ contact.first_name }}", "contact.first_name", None, ()),
    ('{{contact.first_name|default("friend", true)}}', "contact.first_name", "friend", ()),
    ("{{ fact.venue | upper }}", "fact.venue", None, ("upper",)),
    ("{{ company.ends | day | default('soon') }}", "company.ends", "soon", ("day",))])
def test_plain_fill_ins_are_read(text, ref, fallback, filters):
    assert fillins.parse(text) == fillins.FillIn(ref, fallback, filters)


@pytest.mark.parametrize("text", [
    "{{ 'x' * 1000000000 }}", "{{ contact.__class__ }}{{ 1 }}", "{{ contact.first_name.upper() }}", "{{ contact['first_name'] }}",
    "{{ config.secret }}", "{{ contact.first_name | center(300000000) }}", "{{ contact.first_name | format }}",
    "{{ contact.first_name | default(contact.town) }}", "{{ contact }}", "{{ }}", "{{ contact. }}", "{{ self.x() }}",
    "{{ contact.a.b }}", "{{ range(9) }}", "{{ contact.x if 1 else 2 }}", "{{ contact.first_name | attr('x') }}"])
def test_everything_else_is_refused(text):
    with pytest.raises(fillins.FillInError):
        fillins.used(text)


@pytest.mark.parametrize("text", ["{% for x in y %}", "a }} b", "{# note #}", "{{ contact.town", "%}"])
def test_stray_signs_are_refused_with_their_place(text):
    with pytest.raises(fillins.FillInError, match="stray|complete"):
        fillins.split(text)


@given(st.text(alphabet=st.sampled_from("{}%#abc. |\"'x")))
def test_nothing_but_fill_ins_ever_passes(text):
    """Whatever passes renders to plain text and looked-up values: no other Jinja is left in it."""
    try:
        parts = fillins.split(text)
    except fillins.FillInError:
        return
    assert all("{{" not in p and "{%" not in p and "{#" not in p for p in parts if isinstance(p, str))


@given(st.text(max_size=40), st.sampled_from(["contact.first_name", "fact.venue"]))
def test_a_fall_back_survives_being_written_and_read(fallback, ref):
    fill = fillins.FillIn(ref, fallback, ())
    again = fillins.parse(fill.source())
    assert again.ref == ref
    assert again.fallback == fallback.replace("{", "(").replace("}", ")").replace("\r\n", "\n").replace("\r", "\n")


def render(text, **contact):
    return fillins.environment(True).from_string(text).render(contact=contact, company={}, fact={})


def test_values_are_inserted_never_run():
    assert render("{{ contact.n }}", n="{{ 7 * 7 }}<b>") == "{{ 7 * 7 }}&lt;b&gt;"


@pytest.mark.parametrize(("text", "value", "shown"), [
    ("{{ contact.n | day }}", "2026-11-23", "23 Nov 2026"), ("{{ contact.n | number }}", 12345, "12,345"),
    ("{{ contact.n | titled }}", "MARY ann", "Mary Ann"), ("{{ contact.n | titled }}", "McKay", "McKay"),
    ("{{ contact.n }}", None, ""), ("{{ contact.n }}", True, "yes"), ("{{ contact.n }}", ["a", "b"], "a, b"),
    ("{{ contact.n | day | default('soon', true) }}", None, "soon"), ("{{ contact.n | upper }}", "zoë", "ZOË")])
def test_formats(text, value, shown):
    assert render(text, n=value) == shown
