"""Texts that remember what they were made of, and the texts that are found in templates."""

import gettext
import json
import pathlib
import re

import jinja2
import markupsafe
import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core import language, wording
from meadowrun.core.language import Problem, Wording, in_language
from meadowrun.shell.language import units


class German(gettext.NullTranslations):
    """A few words of another language, written by hand."""

    KNOWN = {
        "“%(name)s” was deleted.": "„%(name)s“ wurde gelöscht.",
        "the score": "die Bewertung",
        "Save": "Sichern",
        "100% sure": "100% sicher",
        "It goes to <a>%(name)s</a> and <b>others</b>.": "An <b>andere</b> und <a>%(name)s</a>.",
        "%(others)s or %(last)s": "%(others)s oder %(last)s",
        "Close “%(name)s”": '"%(name)s" schließen',
        "Hello %(name)s": "Hallo %(nmae)s",
        "Bye <b>%(name)s</b>": "Tschüs <b>%(name</b>",
        "See %(name)s": "Siehe %(name)d",
    }

    def gettext(self, message):
        return self.KNOWN.get(message, message)

    def ngettext(self, one, many, count):
        if (one, many) == ("%(n)s person", "%(n)s people"):
            return "%(n)s Mensch" if count == 1 else "%(n)s Menschen"
        return one if count == 1 else many


@pytest.fixture
def german():
    language.read_by(German())
    yield
    language.read_by(None)


def test_a_wording_is_its_english_for_everybody_but_a_reader(german):
    said = Wording("“%(name)s” was deleted.", name="A")
    assert said == "“A” was deleted." and json.loads(json.dumps(said)) == said
    assert f"{said}" == "“A” was deleted." and {said: 1}["“A” was deleted."] == 1
    assert in_language(said) == "„A“ wurde gelöscht."
    assert str(markupsafe.escape(said)) == "„A“ wurde gelöscht."


def test_a_value_that_is_a_wording_is_looked_up_too_and_made_safe(german):
    said = Wording("“%(name)s” was deleted.", name=Wording("the score"))
    assert in_language(said) == "„die Bewertung“ wurde gelöscht."
    hostile = Wording("“%(name)s” was deleted.", name="<b>")
    assert markupsafe.escape(hostile) == "„&lt;b&gt;“ wurde gelöscht."


def test_what_an_error_says_is_looked_up_wherever_it_was_raised(german):
    assert in_language(str(Problem("Save"))) == "Sichern"
    assert in_language(str(Problem(Wording("“%(name)s” was deleted.", name="A")))) == (
        "„A“ wurde gelöscht."
    )


@pytest.mark.parametrize(
    ("count", "english", "german_text"),
    [(1, "1 person", "1 Mensch"), (2, "2 people", "2 Menschen"), (0, "0 people", "0 Menschen")],
)
def test_a_number_chooses_the_form(german, count, english, german_text):
    assert wording.people(count) == english
    assert in_language(wording.people(count)) == german_text


def test_texts_put_together_stay_to_be_looked_up(german):
    assert in_language(Wording("Save") + ", " + Wording("the score")) == "Sichern, die Bewertung"
    assert in_language("(" + Wording("Save")) == "(Sichern"
    assert in_language(wording.joined([Wording("a"), Wording("b")])) == "a oder b"
    assert Wording("<") + markupsafe.Markup("<b>") == markupsafe.Markup("&lt;<b>")


def test_a_percent_sign_without_values_is_only_that(german):
    assert Wording("100% sure") == "100% sure" and in_language(Wording("100% sure")) == (
        "100% sicher"
    )


MARKED = [
    # what stands in a template, the messages in it
    ("<p>Save</p>", ["Save"]),
    ("<p>\n  Save\n  it\n</p>", ["Save it"]),
    ("<p>{{ n }} rows</p>", ["%(n)s rows"]),
    ("<p>{{ a.b|n }} of {{ c.b|n }} done</p>", ["%(b)s of %(b2)s done"]),
    ("<p>{{ count_of(n, 'row') }} so far</p>", ["%(count_of)s so far"]),
    ("<p>To <a href='x'>{{ a }}</a>, <b>now</b>.</p>", ["To <a>%(a)s</a>, <b>now</b>."]),
    ("<p>See <a x='1'>A b</a> or <a x='2'>C d</a></p>", ["See <a>A b</a> or <a2>C d</a2>"]),
    ("<p>50% of {{ n }}</p>", ["50%% of %(n)s"]),
    ("<p>50% of them</p>", ["50% of them"]),
    ("<p>One {% if x %}two{% endif %} three</p>", ["One", "two", "three"]),
    ("<button>Save</button> <button>Leave</button>", ["Save", "Leave"]),
    ("<a title='x' aria-label=\"Close {{ it }}\">×</a>", ["Close %(it)s"]),
    ("<p class=\"{{ 'big' if x }}\">{{ x }}</p>", []),
    ("<p>{{ 'waits' if n == 1 else 'wait' }}</p>", ["waits", "wait"]),
    ("{{ field('Name of it', 'name') }}", ["Name of it"]),
    ("{% include 'a b.html' %}", []),
    ("<script>Save this</script><style>p {}</style>", []),
    ('<textarea placeholder="Your words">Keep this</textarea>', ["Your words"]),
    ("<p>{{ x }}</p><p>…</p><p>×</p>", []),
    ("<b>{% if a %}</b>one{% endif %}", ["one"]),
    # a macro that gives attributes, and braces inside quotes
    ('{% macro m() %} id="x" title="Go on" x-data="{{ y }}"{% endmacro %}', ["Go on"]),
    ("<i title=\"for {{ '{{ contact.town }}' }}\">x</i>", ["for %(value)s"]),
    ("<p>{{ ink('Reads {{ item.title }} here', 1) }}</p>", ["Reads {{ item.title }} here"]),
]


@pytest.mark.parametrize(("source", "messages"), MARKED)
def test_the_messages_of_a_template(source, messages):
    assert [unit.text for unit in units.units(source)] == messages


TEMPLATES = sorted(pathlib.Path(units.__file__).parents[2].glob("*/templates/**/*.html"))


@pytest.mark.parametrize("path", TEMPLATES, ids=lambda path: path.name)
def test_every_template_of_the_application_can_be_read_once_it_is_marked(path):
    source = path.read_text()
    marked = units.marked(source)
    assert marked.count("\n") == source.count("\n")
    jinja2.Environment().parse(marked)


def test_a_message_knows_its_line():
    found = units.units("<p>\n\n  One\n</p>\n<p>Two</p>")
    assert [(unit.text, unit.line) for unit in found] == [("One", 3), ("Two", 5)]


def page(source, **values):
    made = jinja2.Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    made.globals.update(
        wording=Wording, in_markup=language.in_markup, in_attribute=language.in_attribute
    )
    return made.from_string(source).render(values)


def test_a_marked_template_speaks_the_readers_language_and_moves_its_elements(german):
    source = '<p>It goes to <a href="/{{ n }}">{{ name }}</a> and <b>others</b>.</p>'
    assert page(units.marked(source), n=7, name="<A>") == (
        '<p>An <b>andere</b> und <a href="/7">&lt;A&gt;</a>.</p>'
    )
    source = '<i title="Close “{{ name }}”">x</i>'
    assert page(units.marked(source), name='"') == ('<i title="&#34;&#34;&#34; schließen">x</i>'), (
        "what a translator wrote does not end the attribute"
    )


PIECES = st.sampled_from(
    [
        "words ",
        "<b>strong</b> ",
        "<p>",
        "</p>",
        "{{ a }} ",
        "{{- b }} ",
        "{{ a -}} ",
        " 100% ",
        "\n ",
    ]
    + ['<a href="/x?{{ a }}&amp;y=50%" title="Go to {{ b }}">there</a> ', "<br>", "{# note #}"]
    + ["{% if a %}yes indeed{% endif %} ", "{{ 'Some words' }} ", "{{ 'x' if a else 'y z' }} "]
    + ['<i class="{{ a }}">', "</i>", "&nbsp;", "{{ a|upper }} ", "{% set c = 'Big words' %}"]
    + [
        "<textarea>keep\n  this</textarea>",
        "{% for n in [1, 2] %}<b x>{{ n }} times</b>{% endfor %}",
    ]
)


@given(st.lists(PIECES, max_size=12).map("".join), st.sampled_from(["<A & %s>", "", "plain"]))
def test_in_english_a_marked_template_gives_what_it_gave(source, value):
    """But for the blanks between words, which a browser draws as one."""

    def drawn(text):
        return re.sub(r"\s+", " ", text)

    marked = units.marked(source)
    assert marked.count("\n") == source.count("\n"), "every line keeps its number"
    assert drawn(page(marked, a=value, b="B")) == drawn(page(source, a=value, b="B"))


def test_a_translation_with_wrong_values_is_read_in_english(german):
    assert in_language(Wording("Hello %(name)s", name="Ann")) == "Hello Ann"
    source = '<p>Bye <b x="1">{{ name }}</b></p><i title="See {{ name }}">x</i>'
    assert page(units.marked(source), name="<A>") == (
        '<p>Bye <b x="1">&lt;A&gt;</b></p><i title="See &lt;A&gt;">x</i>'
    )
    assert page(units.marked("<p>Save</p>")) == "<p>Sichern</p>", "and the rest is as before"
