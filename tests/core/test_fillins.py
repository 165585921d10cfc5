import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content import fillins
from meadowrun.core.content.filling import template
from meadowrun.core.content.fillins import TOKENS


@pytest.mark.parametrize(
    ("text", "ref", "fallback", "filters"),
    [
        ("{{ contact.first_name }}", "contact.first_name", None, ()),
        ('{{contact.first_name|default("friend", true)}}', "contact.first_name", "friend", ()),
        ("{{ fact.venue | upper }}", "fact.venue", None, ("upper",)),
        ("{{ company.ends | day | default('soon') }}", "company.ends", "soon", ("day",)),
    ],
)
def test_plain_fill_ins_are_read(text, ref, fallback, filters):
    assert fillins.parse(text) == fillins.FillIn(ref, fallback, filters)


@pytest.mark.parametrize(
    "text",
    [
        "{{ 'x' * 1000000000 }}",
        "{{ contact.__class__ }}{{ 1 }}",
        "{{ contact.first_name.upper() }}",
        "{{ contact['first_name'] }}",
        "{{ config.secret }}",
        "{{ contact.first_name | center(300000000) }}",
        "{{ contact.first_name | format }}",
        "{{ contact.first_name | default(contact.town) }}",
        "{{ contact }}",
        "{{ }}",
        "{{ contact. }}",
        "{{ self.x() }}",
        "{{ contact.a.b }}",
        "{{ range(9) }}",
        "{{ contact.x if 1 else 2 }}",
        "{{ contact.first_name | attr('x') }}",
    ],
)
def test_everything_else_is_refused(text):
    with pytest.raises(fillins.FillInError):
        fillins.used(text)


@pytest.mark.parametrize("text", ["a }} b", "{# note #}", "{{ contact.town", "%}"])
def test_stray_signs_are_refused_with_their_place(text):
    with pytest.raises(fillins.FillInError, match="stray|complete"):
        fillins.split(text)


@pytest.mark.parametrize(
    "text",
    [
        "@media{.a{width:100%}}",
        (
            "<style>@media only screen and (max-width:600px){.col{width:100%!important}}@media "
            "print{#head{color:#fff}}</style>"
        ),
        ".a{color:red}",
        "@media x{.a{width:50%}.b{width:100%}} {{ contact.town }}",
        '{"@context":{"a":{"b":1}}}',
        "@media x{ .a{ color:{{ fact.colour }} }}",
        "@keyframes x{0%{top:0}100%{top:9px}}",
        "@media screen{#id{width:1px}#b{x:y}}",
    ],
)
def test_ordinary_style_sheets_are_no_fill_ins(text):
    assert fillins.split(text)


@pytest.mark.parametrize(
    "text", ["{ contact.first_name }}", "{contact.first_name}}", "{# x #}", ".a{width:100%} }}"]
)
def test_what_looks_like_a_spoilt_fill_in_is_told(text):
    with pytest.raises(fillins.FillInError, match="stray"):
        fillins.split(text)


@given(st.text(alphabet=st.sampled_from("{}%#abc. |\"'x")))
def test_nothing_but_fill_ins_ever_passes(text):
    """Whatever passes renders to plain text and looked-up values: nothing is left in it that begins
    a fill-in."""
    try:
        parts = fillins.split(text)
    except fillins.FillInError:
        return
    assert all("{{" not in p and "{%" not in p for p in parts if isinstance(p, str))


@given(st.text(max_size=40), st.sampled_from(["contact.first_name", "fact.venue"]))
def test_a_fall_back_survives_being_written_and_read(fallback, ref):
    fill = fillins.FillIn(ref, fallback, ())
    again = fillins.parse(fill.source())
    assert again.ref == ref
    assert again.fallback == fallback.replace("{", "(").replace("}", ")").replace(
        "\r\n", "\n"
    ).replace("\r", "\n")


def render(text, **contact):
    return fillins.environment(True).from_string(text).render(contact=contact, company={}, fact={})


values = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-9999, 9999),
    st.floats(-1e6, 1e6),
    st.text(max_size=20),
    st.lists(st.text(max_size=5), max_size=3),
    st.sampled_from(["2026-11-23", "McKay", "ANN LEE", "<b>&\"'"]),
)


@given(
    st.lists(
        st.tuples(
            st.text(alphabet="ab <>&\n", max_size=6),
            st.lists(st.sampled_from(["upper", "lower", "day", "titled"]), max_size=2),
            st.one_of(st.none(), st.text(alphabet='xyz <&"', max_size=5)),
        ),
        max_size=4,
    ),
    values,
    st.booleans(),
)
def test_filling_in_gives_what_jinja_gives(pieces, value, escape):
    source = "".join(
        text + fillins.FillIn("contact.n", fallback, tuple(filters)).source()
        for text, filters, fallback in pieces
    )
    given_values = {
        "contact": {"n": value},
        "company": {},
        "fact": {},
        "token": dict.fromkeys(TOKENS, "T"),
    }
    by_jinja = fillins.environment(escape).from_string(source).render(given_values)
    assert template(source, escape)(given_values) == by_jinja


def test_a_blank_stays_blank_in_capitals():
    assert template("{{ contact.n | upper }}", False)({"contact": {"n": None}}) == ""


def test_a_field_that_is_not_there_is_no_blank():
    with pytest.raises(KeyError):
        template("{{ contact.n }}", False)({"contact": {}})


def test_the_fall_back_comes_last():
    with pytest.raises(fillins.FillInError, match="must come last"):
        fillins.parse('{{ contact.n | default("x") | upper }}')


def test_values_are_inserted_never_run():
    assert render("{{ contact.n }}", n="{{ 7 * 7 }}<b>") == "{{ 7 * 7 }}&lt;b&gt;"


@pytest.mark.parametrize(
    ("text", "value", "shown"),
    [
        ("{{ contact.n | day }}", "2026-11-23", "23 Nov 2026"),
        ("{{ contact.n | number }}", 12345, "12,345"),
        ("{{ contact.n | titled }}", "MARY ann", "Mary Ann"),
        ("{{ contact.n | titled }}", "McKay", "McKay"),
        ("{{ contact.n }}", None, ""),
        ("{{ contact.n }}", True, "yes"),
        ("{{ contact.n }}", ["a", "b"], "a, b"),
        ("{{ contact.n | day | default('soon', true) }}", None, "soon"),
        ("{{ contact.n | upper }}", "zoë", "ZOË"),
    ],
)
def test_formats(text, value, shown):
    assert render(text, n=value) == shown
