"""What people ask for themselves: signing up and confirming, an address of their own, fewer
messages, a pause."""

import datetime as dt
import re
import zoneinfo
from concurrent.futures import ThreadPoolExecutor

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs, signing
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.core.guardrails.caps import Cap
from meadowrun.outgoing import caps, rules
from meadowrun.outgoing.models import Delivery
from meadowrun.people import actions as people
from meadowrun.people import keeping, wishes
from meadowrun.people.actions import save_topic
from meadowrun.people.duplicates import merge
from meadowrun.people.models import Consent, ConsentChange, Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.people.wholly import erase, everything
from meadowrun.sends import actions
from meadowrun.sends.estimates import estimate
from meadowrun.sends.models import Send
from meadowrun.tracking import confirming
from meadowrun.tracking.confirming import Confirmation
from tests.conftest import NOW
from tests.store.people import IDA, add, many, ready_send
from tests.store.sending import counts, go
from tests.store.web import sign_in

LONDON = zoneinfo.ZoneInfo("Europe/London")
DAY = dt.timedelta(days=1)


@pytest.fixture
def topics(database):
    """Two topics: their numbers."""
    with database.session() as session:
        made = [
            save_topic(session, IDA, NOW, name, about, None, "now and then")
            for name, about in (("Sky diary", "once a month"), ("Lectures", "when there is one"))
        ]
        return [one.id for one in made]


def ask(database, email="ada@post.example", wished=(), now=NOW, kind="sign_up", **more):
    with database.session() as session:
        confirming.ask(session, now, kind, email, wished, "the form", "Yes, send me …", **more)


def mailed(database, keeper, now=NOW):
    """The confirming messages that leave now: address → token."""
    before = len(keeper.letters)
    with clock.at(now):
        jobs.run_here("tracking.ask")
    return {
        letter.to: re.search(r"/confirm/(\S+)", letter.text).group(1)
        for letter in keeper.letters[before:]
    }


def agreed(database, email="ada@post.example"):
    """What somebody agreed to: topic → yes or no."""
    with database.session() as session:
        contact = session.scalar(sa.select(Contact.id).where(Contact.email == email))
        rows = session.scalars(sa.select(Consent).where(Consent.contact_id == contact))
        return {row.topic_id: row.agreed for row in rows}


def test_nobody_is_on_file_before_they_confirm(database, job_context, keeper, topics):
    ask(database, wished=topics[:1], details={"first_name": "Ada"})
    token = mailed(database, keeper)["ada@post.example"]
    with database.session() as session:
        assert session.scalars(sa.select(Contact)).all() == []
        confirming.confirm(session, NOW + DAY, token)
    with database.session() as session:
        ada = session.scalars(sa.select(Contact)).one()
        assert (ada.first_name, ada.source) == ("Ada", "the form")
        kept = session.scalars(sa.select(ConsentChange)).one()
        assert (kept.topic_id, kept.agreed) == (topics[0], True)
        # What was said where and when, and what confirmed it, is the evidence.
        for part in ("the form", "Yes, send me …", "2026-11-23 14:00", "2026-11-24 14:00", "ada@"):
            assert part in kept.how
        confirming.confirm(session, NOW + DAY, token)
        assert len(session.scalars(sa.select(ConsentChange)).all()) == 1


def test_an_address_is_asked_once_a_day(database, job_context, keeper, topics):
    ask(database, wished=topics[:1])
    ask(database, "ADA@post.example ", wished=topics[1:])
    assert list(mailed(database, keeper)) == ["ada@post.example"]
    ask(database, wished=topics[:1], now=NOW + 0.9 * DAY)
    assert mailed(database, keeper, NOW + 0.9 * DAY) == {}
    ask(database, wished=topics[:1], now=NOW + 1.1 * DAY)
    assert list(mailed(database, keeper, NOW + 1.1 * DAY)) == ["ada@post.example"]
    with database.session() as session:
        first = session.scalars(sa.select(Confirmation).order_by(Confirmation.id)).first()
        # What was wished for meanwhile is confirmed by the same message.
        assert first.topics == sorted(topics)


def test_many_who_ask_at_once_make_one_message(database, job_context, keeper):
    with ThreadPoolExecutor(8) as pool:
        list(pool.map(lambda _: ask(database), range(16)))
    assert len(mailed(database, keeper)) == 1
    with database.session() as session:
        assert len(session.scalars(sa.select(Confirmation)).all()) == 1


def test_whoever_is_suppressed_is_never_asked(database, job_context, keeper):
    with database.session() as session:
        keeping.suppress(session, NOW, "ada@post.example", "complained", "test")
        keeping.suppress(session, NOW, "@shut.example", "asked us", "test")
    ask(database)
    ask(database, "anybody@shut.example")
    assert mailed(database, keeper) == {}


@pytest.mark.parametrize(
    "email", ["", "ada", "ada@", "a b@post.example", "ada@post.example\nBcc: x@y"]
)
def test_what_is_no_address(database, email):
    with pytest.raises(Invalid):
        ask(database, email)


def test_a_topic_that_is_none(database):
    with pytest.raises(Invalid, match="no such topic"):
        ask(database, wished=[99])


def test_what_is_not_confirmed_is_deleted(database, job_context, keeper):
    ask(database)
    token = mailed(database, keeper)["ada@post.example"]
    with clock.at(NOW + 7 * DAY):
        jobs.run_here("tracking.expire")
    with database.session() as session:
        assert confirming.waiting(session, token)
    with clock.at(NOW + 7 * DAY + dt.timedelta(seconds=1)):
        jobs.run_here("tracking.expire")
    with database.session() as session, pytest.raises(NotFound):
        confirming.confirm(session, NOW + 8 * DAY, token)


def test_a_mail_server_that_is_away_is_asked_again(database, job_context, keeper):
    keeper.break_after = 0
    ask(database)
    assert mailed(database, keeper) == {}
    keeper.break_after = None
    # Two minutes later, not at once.
    assert mailed(database, keeper, NOW + dt.timedelta(minutes=1)) == {}
    assert list(mailed(database, keeper, NOW + dt.timedelta(minutes=2))) == ["ada@post.example"]


def test_whoever_is_on_file_stays_one_record(database, job_context, keeper, topics):
    with database.session() as session:
        add(session, NOW, "ada@post.example", agreed=False, first_name="Ada")
    ask(database, wished=topics[:1])
    token = mailed(database, keeper)["ada@post.example"]
    with database.session() as session:
        confirming.confirm(session, NOW, token)
        assert session.scalar(sa.select(sa.func.count()).select_from(Contact)) == 1
    # They had said no to all email: what they wish for now is all that they get.
    assert agreed(database) == {0: True, topics[0]: True, topics[1]: False}


def opened(database, email="ada@post.example"):
    """The path of the preference page that a link of somebody's mail leads to."""
    with database.session() as session:
        contact = session.scalar(sa.select(Contact.id).where(Contact.email == email))
    return f"/p/{signing.make('s' * 40, 'choose', 7, contact)}"


def test_a_topic_is_wished_for_on_the_page(client, database, job_context, keeper, topics, still):
    with database.session() as session:
        ada = add(session, NOW, "ada@post.example", agreed=None)
        people.set_consent(session, NOW, ada.id, topics[0], True, "test")
    path = opened(database)
    page = client.get(path).text
    assert "when there is one, now and then" in page
    assert f'name="wish" value="{topics[1]}"'.replace('" value', '"\n             value') in page
    page = client.post(path, data={"topic": topics[0], "wish": topics[1]}).text
    assert "We have sent an email to a…@post.example" in page
    assert agreed(database) == {topics[0]: True}
    token = mailed(database, keeper)["ada@post.example"]
    page = client.get(f"/confirm/{token}").text
    assert "Would you like Lectures at ada@post.example?" in page
    # Opening it agrees to nothing: scanners of mail open links, too.
    assert agreed(database) == {topics[0]: True}
    assert "You will get Lectures" in client.post(f"/confirm/{token}").text
    assert agreed(database) == {topics[0]: True, topics[1]: True}
    assert client.get("/confirm/made-up").status_code == 404
    assert client.post("/confirm/made-up").status_code == 404


def test_an_address_of_their_own(client, database, job_context, keeper, still):
    with database.session() as session:
        add(session, NOW, "ada@post.example")
        add(session, NOW, "bob@post.example")
    path = opened(database)
    answer = client.post(path, data={"email": "no address"})
    assert answer.status_code == 422
    # What was typed is not lost.
    assert 'value="no address"' in answer.text
    client.post(path, data={"email": "ada@new.example"})
    token = mailed(database, keeper)["ada@new.example"]
    with database.session() as session:
        assert {c.email for c in session.scalars(sa.select(Contact))} == {
            "ada@post.example",
            "bob@post.example",
        }
    assert "Shall we write to ada@new.example" in client.get(f"/confirm/{token}").text
    client.post(f"/confirm/{token}")
    with database.session() as session:
        assert "ada@new.example" in session.scalars(sa.select(Contact.email)).all()
    # One that another record has by now is refused, with the reason.
    client.post(opened(database, "ada@new.example"), data={"email": "bob@post.example"})
    token = mailed(database, keeper)["bob@post.example"]
    answer = client.post(f"/confirm/{token}")
    assert answer.status_code >= 400
    assert 'role="alert"' in answer.text


def test_whoever_holds_a_link_cannot_have_strangers_written_to(client, database, still):
    with database.session() as session:
        add(session, NOW, "ada@post.example")
    path = opened(database)
    for number in range(3):
        answer = client.post(path, data={"topic": "0", "email": f"x{number}@other.example"})
        assert answer.status_code == 200
    answer = client.post(path, data={"topic": "0", "email": "x9@other.example"})
    assert answer.status_code == 422
    assert "Try again tomorrow" in answer.text
    with database.session() as session:
        assert session.scalar(sa.select(sa.func.count()).select_from(Confirmation)) == 3


@pytest.fixture
def sent(database, settings, job_context, keeper):
    """A send to three people, whose first wishes for something, started at a moment: its
    number."""

    def made(now=NOW, people_too=True, **how):
        with clock.at(now), database.session() as session:
            if people_too:
                many(session, NOW, 3)
            send = ready_send(session, now, {"in": [{"everyone": True}], "out": []})
            for name, value in how.items():
                setattr(send, name, value)
            session.flush()
            actions.start(session, IDA, now, send, settings.public_url, 3, send.version)
            ident = send.id
        go(database, now)
        return ident

    return made


def stands(database, ident):
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        rows = session.scalars(
            sa.select(Delivery).where(Delivery.dispatch_id == dispatch).order_by("contact_id")
        )
        return [(row.outcome, row.due if row.outcome == "waiting" else None) for row in rows]


def test_who_wishes_for_one_message_a_week(client, database, sent):
    """NOW is a Monday: the second message of the week waits for the next one, on their clock. Also
    one that obeys no limits; a service message does not."""
    first = sent()
    assert counts(database, first)[0] == {"delivered": 3}
    with database.session() as session:
        wishes.at_most(session, session.get_one(Contact, 1), 1)
    with clock.at(NOW), database.session() as session:
        draft = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        draft.obeys_caps = False
        session.flush()
        look = estimate(Moment(session, dictionary(session), NOW, LONDON), draft)
        assert (look.going, look.without_room) == (3, 1)
        session.delete(draft)
    later = NOW + DAY
    second = sent(later, False, obeys_caps=False)
    monday = dt.datetime(2026, 11, 30, tzinfo=dt.UTC)
    assert stands(database, second) == [
        ("waiting", monday),
        ("delivered", None),
        ("delivered", None),
    ]
    assert stands(database, sent(later, False, consent_rule="service")) == [("delivered", None)] * 3
    go(database, monday)
    assert counts(database, second)[0] == {"delivered": 3}


def test_a_wish_holds_beside_the_limits(database, sent):
    """Two a week are allowed, one is wished for; who wishes for three has two."""
    with clock.at(NOW), database.session() as session:
        caps.save(session, IDA, NOW, Cap(2, 1, "week"))
    sent()
    with database.session() as session:
        wishes.at_most(session, session.get_one(Contact, 1), 1)
        wishes.at_most(session, session.get_one(Contact, 2), 3)
    second, third = sent(NOW + DAY, False), sent(NOW + 2 * DAY, False)
    assert [outcome for outcome, _ in stands(database, second)] == [
        "waiting",
        "delivered",
        "delivered",
    ]
    assert [outcome for outcome, _ in stands(database, third)] == ["waiting"] * 3
    # Each is told what they wait for: the first for their own wish, the others for the limit.
    assert reasons(database, second) == ["own_limit", None, None]
    assert reasons(database, third) == ["own_limit", "cap", "cap"]


def reasons(database, ident):
    """Why people of a send wait, by contact."""
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        rows = session.scalars(
            sa.select(Delivery)
            .where(Delivery.dispatch_id == dispatch)
            .order_by(Delivery.contact_id)
        )
        return [(row.stood_on or {}).get("because") for row in rows]


def test_a_pause_keeps_all_but_service_messages(client, database, sent):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 3)
        wishes.pause(session, NOW, session.get_one(Contact, 1), 1)
    ident = sent(people_too=False)
    assert [outcome for outcome, _ in stands(database, ident)] == [
        "no_consent",
        "delivered",
        "delivered",
    ]
    with database.session() as session:
        kept = session.scalars(sa.select(Delivery.stood_on).where(Delivery.contact_id == 1)).one()
        assert kept == {"because": "paused", "paused": True}
    assert counts(database, sent(NOW, False, consent_rule="service"))[0] == {"delivered": 3}
    # A month later it ends by itself.
    for moment, paused in (("2026-12-23T13:59", True), ("2026-12-23T14:00", False)):
        with clock.at(dt.datetime.fromisoformat(moment).replace(tzinfo=dt.UTC)):
            jobs.run_here("people.expire")
        with database.session() as session:
            assert (session.get_one(Contact, 1).paused_until is not None) is paused


def test_less_often_and_a_pause_on_the_page(client, database, still):
    with database.session() as session:
        add(session, NOW, "ada@post.example")
    path = opened(database)
    client.post(path, data={"topic": "0", "often": "2", "pause": "3"})
    with database.session() as session:
        ada = session.scalars(sa.select(Contact)).one()
        assert ada.most_a_week == 2
        assert ada.paused_until == dt.datetime(2027, 2, 23, 14, tzinfo=dt.UTC)
        assert agreed(database) == {0: True}
    page = client.get(path).text
    assert "You paused until 23 Feb 2027" in page
    client.post(path, data={"topic": "0", "often": "any", "pause": "end"})
    with database.session() as session:
        ada = session.scalars(sa.select(Contact)).one()
        assert (ada.most_a_week, ada.paused_until) == (None, None)
    assert client.post(path, data={"topic": "0", "often": "9"}).status_code == 422
    assert client.post(path, data={"topic": "0", "pause": "99"}).status_code == 422


def test_signing_up_by_the_api(client, api, database, job_context, keeper, topics):
    given = {
        "email": "ada@post.example",
        "topics": ["sky_diary"],
        "page": "https://farrowhill.example/join",
        "said": "Send me the sky diary",
        "first_name": "Ada",
    }
    with clock.at(NOW):
        assert api("post", "/sign-ups", given) == (202, {"asked": True})
        for wrong in ({"topics": ["none"]}, {"email": "x"}, {"said": "  "}):
            assert api("post", "/sign-ups", given | wrong)[0] == 422, wrong
    token = mailed(database, keeper)["ada@post.example"]
    with clock.at(NOW):
        client.post(f"/confirm/{token}")
    assert agreed(database) == {topics[0]: True}
    with clock.at(NOW):
        items = api("get", "/readiness")[1]["items"]
    assert {"key", "ok", "fix", "said", "area", "name", "at"} == set(items[0])


def test_soft_bounces_end_writing_by_the_numbers_that_are_set(client, database, still):
    """Three within ten days: the first counts no more on the eleventh."""
    with database.session() as session:
        ada = add(session, NOW, "ada@post.example").id
    sign_in(client)
    client.post("/sending/soft-bounces", data={"soft_most": "3", "soft_days": "10"})
    page = client.get("/sending").text
    assert 'value="3"' in page and 'value="10"' in page
    for day, struck in ((0, False), (5, False), (11, False), (12, False), (13, True)):
        with database.session() as session:
            rules.count_bounces(session, NOW + day * DAY, [], [ada])
            session.expire_all()
            assert (session.get_one(Contact, ada).bounced_at is not None) is struck, day
    client.post("/sending/soft-bounces", data={"soft_most": "0", "soft_days": "10"})
    with database.session() as session:
        assert rules.rules(session).soft_most == 3


def test_of_two_records_the_wish_for_less_stays(database):
    with database.session() as session:
        ada, other = add(session, NOW, "ada@post.example"), add(session, NOW, "a.da@post.example")
        wishes.at_most(session, ada, 3)
        wishes.at_most(session, other, 1)
        wishes.pause(session, NOW, other, 2)
        merge(session, IDA, NOW, ada.id, other.id, set())
        assert (ada.most_a_week, ada.paused_until) == (
            1,
            dt.datetime(2027, 1, 23, 14, tzinfo=dt.UTC),
        )


def test_what_was_asked_goes_with_whoever_is_erased(database, job_context, keeper):
    ask(database)
    token = mailed(database, keeper)["ada@post.example"]
    with database.session() as session:
        confirming.confirm(session, NOW, token)
    ask(database, now=NOW + 2 * DAY)
    with database.session() as session:
        ada = session.scalar(sa.select(Contact.id))
        assert everything(session, ada)["asked_to_confirm"][0]["said"] == "Yes, send me …"
        erase(session, IDA, NOW, ada)
    with database.session() as session:
        assert session.scalars(sa.select(Confirmation)).all() == []


def test_topics_of_other_letters_are_told_apart(database):
    with database.session() as session:
        made = [save_topic(session, IDA, NOW, name, "") for name in ("Διαλέξεις", "講演", "Лекции")]
        assert [one.key for one in made] == ["topic", "topic_2", "topic_3"]
        with pytest.raises(Conflict):
            save_topic(session, IDA, NOW, "лекции", "")
        with pytest.raises(Invalid):
            save_topic(session, IDA, NOW, "  ", "")
