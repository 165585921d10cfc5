"""Who looks at whom is kept, and what is done unusually often is told to administrators."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import audit, clock
from meadowrun.base.audit import LOOKED, REFUSED, Actor, record
from meadowrun.shell import unusual
from meadowrun.shell.models import User
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.web import browser, sign_in, words

NOOR = Actor(7, "Noor", "author")


def test_a_look_at_a_person_is_kept_once_an_hour_without_a_name(web, database, settings):
    with clock.at(NOW), database.session() as session:
        ident = add(session, NOW, "ann@post.example", first_name="Ann", last_name="Rook").id
    for minutes, looks in ((0, 1), (1, 1), (59, 1), (61, 2)):
        with clock.at(NOW + dt.timedelta(minutes=minutes)):
            assert web.get(f"/people/{ident}").status_code == 200
        with database.session() as session:
            rows = session.scalars(
                sa.select(audit.AuditRow).where(audit.AuditRow.did == LOOKED)
            ).all()
        assert [(row.who, row.object_id, row.object_name) for row in rows] == [
            ("Admin", ident, "")
        ] * looks
    assert "Admin looked at" not in words(
        web.get("/changes").text
    ) and f"Admin looked at contact {ident}" in words(web.get("/changes?looks=1").text)
    author = browser(database, settings)
    sign_in(author, "author")
    assert author.get("/changes?looks=1").status_code == 403


@pytest.fixture
def admins(web, database):
    with database.session() as session:
        return session.scalar(sa.select(sa.func.count()).where(User.role == "admin"))


@pytest.mark.parametrize(
    ("did", "most", "says"),
    [
        (LOOKED, unusual.MOST_LOOKS, "Noor looked at 151 people within an hour"),
        ("downloaded", unusual.MOST_FILES, "Noor downloaded 13 files within an hour"),
        (REFUSED, unusual.MOST_REFUSED, "61 sign-ins were refused within an hour"),
    ],
)
def test_what_is_done_too_often_is_told(web, database, admins, did, most, says):
    def at(moment):
        with database.session() as session:
            unusual.tell(session, moment)
            return unusual.of(session, moment), session.scalar(
                sa.text("SELECT count(*) FROM told WHERE subject LIKE 'Something unusual%'")
            )

    with database.session() as session:
        for number in range(most):
            record(session, NOOR, NOW, did, "contact", number, "")
    assert at(NOW) == ([], 0)
    with database.session() as session:
        record(session, NOOR, NOW, did, "contact", most, "")
        record(session, IDA, NOW, did if did != REFUSED else "changed", "contact", 1, "")
    assert at(NOW) == ([says], admins)
    assert at(NOW + dt.timedelta(minutes=30))[1] == admins, "told once a day"
    assert at(NOW + dt.timedelta(minutes=61))[0] == []
    with clock.at(NOW):
        assert says in words(web.get("/").text)
