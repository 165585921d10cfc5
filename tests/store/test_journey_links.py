"""A wait for one link of a message: clicked as it stands in the letters that were really sent."""

import datetime as dt
import re

import pytest

from meadowrun.base import clock
from meadowrun.journeys import queries
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.web import browser, words
from tests.store.writing_journeys import buys, draft, post, starts, welcome

BOOK = "https://farrowhill.example/book"
MORE = "https://farrowhill.example/more?x={{ contact.town }}"
HOUR = dt.timedelta(hours=1)


@pytest.fixture
def journey(ida, database):
    """A welcome, then three ways: any click, the link to book, neither within three days."""
    welcome(ida, database)
    post(ida, database, "do", do="remove", step=draft(database).steps[1].id)
    waits = draft(database).steps[1]
    post(ida, database, "do", do="add-path", step=waits.id)
    any_link, one_link, _ = draft(database).steps[1].paths
    post(ida, database, "set", step=any_link.id, what="clicked")
    post(ida, database, "set", step=one_link.id, what=f"link:{BOOK}")
    return draft(database).steps[1]


def click(letter, label, reader):
    """Follows the link of a label in a letter, as a person would."""
    [href] = re.findall(rf'href="([^"]*/c/[^"]+)"[^>]*>(?:<[^>]+>)*\s*{label}', letter.html)
    return reader.get(re.sub(r"^https?://[^/]+", "", href), headers={"User-Agent": "A reader"})


def took(database, ident=1):
    with database.session() as session:
        return {
            contact: queries.moves(session, queries.entry(session, ident, contact).id)[-1].because
            for contact in (1, 2, 3)
        }


def test_the_one_link_and_any_link(ida, database, settings, keeper, journey):
    any_link, one_link, neither = (path.id for path in journey.paths)
    starts(ida, database)
    buys(database, 1, 2, 3)
    letters = {letter.to: letter for letter in keeper.letters}
    reader = browser(database, settings)
    with clock.at(NOW + HOUR):
        book = click(letters["p1@post.example"], "Book", reader)
        more = click(letters["p2@post.example"], "More", reader)
    assert book.headers["Location"].startswith(BOOK)
    assert more.headers["Location"].startswith("https://farrowhill.example/more")
    advance(database, NOW + 2 * HOUR)
    advance(database, NOW + dt.timedelta(days=4))
    # Of one click the very link counts before any link, though that stands first.
    assert took(database) == {1: one_link, 2: any_link, 3: neither}


def test_the_links_of_the_message_are_offered_and_said(ida, database, journey):
    shown = ida.get("/journeys/1?edit=1").text
    assert "clicked the link to farrowhill.example/book" in shown
    assert f'value="link:{BOOK}" selected' in shown
    assert "More (farrowhill.example/more?x=‹town›)" in words(shown)


def test_a_link_that_the_message_lost_is_found_before_it_starts(ida, database, journey):
    path = journey.paths[1].id
    post(ida, database, "set", step=path, what="link:https://farrowhill.example/gone")
    shown = ida.get("/journeys/1").text
    assert "The message before this step does not have this link. Choose another." in shown
    post(ida, database, "start")
    with database.session() as session:
        assert queries.journey(session, 1).state == "draft"
