"""The sample campaign: made, sent to whoever made it and to nobody else, and thrown away."""

import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.home import sample
from meadowrun.home.models import Sample
from meadowrun.messages.senders import Sender
from meadowrun.people import keeping
from meadowrun.people.actions import save_contact
from meadowrun.people.models import Contact, PeopleList
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.sending import counts, run_all, start
from tests.store.web import sign_in, words

#: What a sample adds rows to and gives back.
TABLES = ("contacts", "lists", "segments", "messages", "campaigns", "sends", "journeys", "sample")


def rows(database):
    with database.session() as session:
        return {
            name: session.execute(sa.text(f"SELECT count(*) FROM {name}")).scalar()
            for name in TABLES
        }


def made(database, settings, address="mara@farrowhill.example"):
    """A sample of a sender that is there; gives the number of its send."""
    with clock.at(NOW), database.session() as session:
        if session.scalar(sa.select(Sender.id)) is None:
            session.add(Sender(name="Mara", address="mara@farrowhill.example", reply_to=""))
            session.flush()
        return sample.make(session, IDA, NOW, settings, address).send_id


def throw_away(database, uses=lambda kind, ident: []):
    with clock.at(NOW), database.session() as session:
        return sample.throw_away(session, IDA, NOW, uses)


def test_its_emails_come_to_its_maker_alone(database, settings, job_context, keeper):
    ident = made(database, settings, "mara@farrowhill.example")
    start(database, settings, ident, 8)
    run_all(database, ident)
    assert counts(database, ident)[0] == {"delivered": 8}
    # Those of Tallowby and Quenmoor are the first eight.
    assert sorted(one.to for one in keeper.letters) == [
        f"mara+sample{number}@farrowhill.example" for number in range(1, 9)
    ]
    letter = next(one for one in keeper.letters if "+sample5@" in one.to)
    assert "Dear Lucía" in letter.html and "Dear Lucía" in letter.text


def test_what_was_never_sent_goes_without_a_trace(client, database, settings):
    before = rows(database) | {"sample": 0}
    sign_in(client)
    assert client.post("/sample", data={"address": "mara@farrowhill.example"}).status_code == 303
    assert rows(database) == {
        "contacts": before["contacts"] + 12,
        "lists": before["lists"] + 1,
        "segments": before["segments"] + 1,
        "messages": before["messages"] + 2,
        "campaigns": before["campaigns"] + 1,
        "sends": before["sends"] + 1,
        "journeys": before["journeys"] + 1,
        "sample": 1,
    }
    said = client.post("/sample/delete", follow_redirects=True).text
    assert "The sample campaign is gone." in words(said)
    assert rows(database) == before


def test_each_step_leads_to_a_page_that_is_there(client, database, settings, job_context):
    sign_in(client)
    client.post("/sample", data={"address": "mara@farrowhill.example"})
    page = client.get("/sample").text
    links = re.findall(
        r'<a[^>]*href="(/(?:segments|messages|sends|journeys|lists|campaigns)[^"]*)', page
    )
    assert len(set(links)) >= 8
    for link in links:
        assert client.get(link.replace("&amp;", "&"), follow_redirects=True).status_code == 200
    assert "Go on with the sample campaign" in words(client.get("/").text)


def test_what_was_sent_stays_and_its_people_are_erased(database, settings, job_context, keeper):
    ident = made(database, settings)
    start(database, settings, ident, 8)
    run_all(database, ident)

    def uses(kind, number):
        return ["the send “Sample: send”"] if kind in ("segment", "campaign") else []

    stays = throw_away(database, uses)
    assert stays == [
        "Sample: send",
        "Sample: invitation",
        "Sample: two of three towns",
        "Sample people",
        "Sample: open evening",
    ]
    left = rows(database)
    assert (left["contacts"], left["sample"], left["journeys"]) == (0, 0, 0)
    assert counts(database, ident)[0] == {"delivered": 8}
    # Another one can be made beside what stays.
    again = made(database, settings)
    assert again != ident
    with database.session() as session:
        assert session.get(Send, again).campaign_id != session.get(Send, ident).campaign_id


def test_real_people_on_its_list_are_kept(database, settings):
    made(database, settings)
    with clock.at(NOW), database.session() as session:
        real = add(session, NOW, "ann@post.example")
        found = session.get(Sample, 1)
        keeping.put_in(session, found.list_id, [real.id])
        ident = real.id
    assert throw_away(database) == []
    with database.session() as session:
        assert session.scalars(sa.select(Contact.id)).all() == [ident]
        assert session.scalars(sa.select(PeopleList.id)).all() == []


def test_whoever_has_become_somebody_real_is_kept(database, settings):
    """One was merged with a real person, and another one was given a real address."""
    made(database, settings)
    with clock.at(NOW), database.session() as session:
        first, second = session.get(Sample, 1).people[:2]
        save_contact(session, IDA, NOW, {"email": "ada@post.example"}, session.get(Contact, first))
        session.execute(
            sa.text("UPDATE contacts SET source = 'by hand' WHERE id = :id"), {"id": second}
        )
    assert throw_away(database) == ["Ada Lindqvist", "Tomasz Wrona"]
    with database.session() as session:
        assert session.scalars(sa.select(Contact.id)).all() == [first, second]


@pytest.mark.parametrize("address", ["", "mara", "mara@", "mara@farrowhill", "a b@post.example"])
def test_an_address_that_cannot_be_is_refused_where_it_was_typed(database, settings, address):
    with clock.at(NOW), database.session() as session, pytest.raises(Invalid) as refused:
        sample.make(session, IDA, NOW, settings, address)
    assert refused.value.where == "address"
    assert rows(database)["contacts"] == 0


def test_there_is_one_at_a_time(database, settings):
    made(database, settings)
    with clock.at(NOW), database.session() as session, pytest.raises(Conflict):
        sample.make(session, IDA, NOW, settings, "tom@farrowhill.example")
    throw_away(database)
    with pytest.raises(Conflict):
        throw_away(database)


def test_whoever_only_looks_cannot_make_one(client, database):
    sign_in(client, "viewer")
    assert client.get("/sample").status_code == 403
    assert client.post("/sample", data={"address": "v@post.example"}).status_code == 403
    assert "sample campaign" not in words(client.get("/").text)
