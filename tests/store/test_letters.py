"""One rule for how texts are compared, in Python and in the database, over the letters of all
scripts."""

import unicodedata
import zoneinfo

import pytest
import sqlalchemy as sa
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.audience import definition as d
from meadowrun.core.audience.letters import FORMS
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import why
from meadowrun.segments.fetching import compiler_for
from tests.conftest import NOW
from tests.luck import tries
from tests.store.people import add

LONDON = zoneinfo.ZoneInfo("Europe/London")
#: Signs of every script that Unicode names, but for halves of pairs, NUL and what has no meaning
#: yet.
SIGNS = st.characters(min_codepoint=1, exclude_categories=("Cs", "Cn", "Co"))
WORDS = [
    "İzmir",
    "istanbul",
    "ΣΟΦΟΣ",
    "σοφος",
    "σοφός",
    "Zoë",
    unicodedata.normalize("NFD", "Zoë"),
    "STRASSE",
    "Straße",
    "ﬁn",
    "ǅ",
    "Ꭰꭱ",
    "ÅNGSTRÖM",
    "ſ",
    "ᾳ",
    "ΐ",
    "ß",
    "ẞ",
    "Ωmega",
    "Ω",
    "µ",
    "Москва",
    "İ",
    "ı",
    "I",
    "江戸",
    "a b",
    "a\u00a0b",
    "\u2028x ",
    "Ȼ",
    "ᏸ",
    "Ⴀ",
    "ა",
    "Ა",
    "’n",
    "ŉ",
]


@pytest.fixture(scope="module")
def bare(cluster_url):
    from meadowrun.base.testing import TEMPLATE

    engine = sa.create_engine(
        f"{cluster_url}/{TEMPLATE}".replace("postgresql://", "postgresql+psycopg://"),
        poolclass=sa.NullPool,
    )
    return engine


def same(engine, texts):
    with engine.connect() as connection:
        for name, form in FORMS.items():
            function = {"exact": "composed"}.get(name, name)
            found = (
                connection.execute(
                    sa.text(
                        f"SELECT {function}(t) FROM unnest(CAST(:texts AS text[])) WITH "
                        "ORDINALITY x(t, n) ORDER BY n"
                    ),
                    {"texts": texts},
                )
                .scalars()
                .all()
            )
            assert found == [form(text) for text in texts], name


def test_known_words_have_the_same_form_in_both(bare):
    same(bare, WORDS)


@tries(60)
@given(st.lists(st.text(SIGNS, max_size=12), min_size=1, max_size=60))
def test_any_text_has_the_same_form_in_both(bare, texts):
    same(bare, texts)


@tries(20)
@given(st.text(SIGNS, min_size=1, max_size=12))
def test_a_word_always_finds_itself_however_it_is_written(text):
    for form in (FORMS["letters"], FORMS["loose"]):
        assert form(text.casefold()) == form(text) == form(unicodedata.normalize("NFD", text))


@pytest.mark.parametrize(
    ("wanted", "compare", "found"),
    [
        ("İzmir", "letters", {"İzmir"}),
        ("i̇zmir", "letters", {"İzmir"}),
        ("izmir", "loose", {"İzmir"}),
        ("ΣΟΦΟΣ", "letters", {"ΣΟΦΟΣ", "σοφος"}),
        ("σοφος", "letters", {"ΣΟΦΟΣ", "σοφος"}),
        ("ΣΟΦΌΣ", "loose", {"ΣΟΦΟΣ", "σοφος", "σοφός"}),
        ("ZOË", "letters", {"Zoë", "nfd"}),
        (unicodedata.normalize("NFD", "zoë"), "letters", {"Zoë", "nfd"}),
        ("Zoë", "exact", {"Zoë", "nfd"}),
        ("STRASSE", "letters", {"STRASSE", "Straße"}),
    ],
)
def test_finding_leaving_out_and_why_agree(database, still, wanted, compare, found):
    with database.session() as session:
        for word in ("İzmir", "ΣΟΦΟΣ", "σοφος", "σοφός", "Zoë", "STRASSE", "Straße", "Москва"):
            add(session, NOW, town=word, first_name=word)
        add(session, NOW, town=unicodedata.normalize("NFD", "Zoë"), first_name="nfd")
        words = dictionary(session)
        everyone = set(session.scalars(sa.text("SELECT first_name FROM contacts")))
        for op, expected in (("is", found), ("is_not", everyone - found), ("contains", found)):
            value = [wanted] if op != "contains" else wanted
            line = d.parse(
                {
                    "lines": [
                        {
                            "id": "a",
                            "kind": "field",
                            "field": "town",
                            "op": op,
                            "value": value,
                            "compare": compare,
                        }
                    ]
                },
                words,
            )
            compiler = compiler_for(Moment(session, words, NOW, LONDON))
            sql = compiler.definition(line)
            assert (
                set(
                    session.scalars(
                        sa.text(f"SELECT c.first_name FROM contacts c WHERE {sql}"), compiler.values
                    )
                )
                == expected
            ), op
            for ident, name in session.execute(
                sa.text("SELECT id, first_name FROM contacts")
            ).all():
                assert why.judge(Moment(session, words, NOW, LONDON)).matches(
                    line, why.person(session, ident, words)
                ) is (name in expected)
