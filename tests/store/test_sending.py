"""The pipeline on a real database: who gets it, who does not and why, and what happens when things
break."""

import dataclasses
import datetime as dt
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs, signing
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.gateways import smtp
from meadowrun.gateways.handing import all_may_go
from meadowrun.outgoing import claims, settling
from meadowrun.outgoing.queries import tally
from meadowrun.people import actions as people
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.sends import actions
from meadowrun.sends.estimates import estimate
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds, many, ready_send
from tests.store.sending import Keeper, counts, mixed, run_all, segment, start, started
from tests.store.work import drain, number_of, token_of, work


@pytest.mark.parametrize(
    ("rule", "reached"),
    [
        ("agreed", set()),
        ("not_refused", {"unasked@post.example"}),
        ("service", {"unasked@post.example", "no@post.example"}),
    ],
)
def test_who_may_get_it_is_asked_as_the_send_says(
    database, settings, job_context, keeper, rule, reached
):
    """The estimate and the sending agree; nobody suppressed gets anything by any rule."""
    with clock.at(NOW), database.session() as session:
        mixed(session)
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        send.consent_rule = rule
        guess, ident = (
            estimate(
                Moment(session, dictionary(session), NOW, zoneinfo.ZoneInfo("Europe/London")), send
            ),
            send.id,
        )
    assert (guess.total, guess.going) == (13, 6 + len(reached))
    start(database, settings, ident, guess.going)
    run_all(database, ident)
    found, _ = counts(database, ident)
    assert (found["delivered"], found.get("no_consent", 0), found["suppressed"]) == (
        6 + len(reached),
        2 - len(reached),
        1,
    )
    with database.session() as session:
        assert reached <= set(
            session.scalars(sa.text("SELECT address FROM deliveries WHERE outcome = 'delivered'"))
        )


def test_everyone_stands_under_exactly_one_outcome(database, settings, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        mixed(session)
        inside = segment(session)
        from meadowrun.segments.actions import save

        out = save(
            session,
            IDA,
            NOW,
            dictionary(session),
            "Out of town",
            {
                "lines": [
                    {"id": "o", "kind": "field", "field": "town", "op": "is", "value": ["out"]}
                ]
            },
        )
        send = ready_send(
            session, NOW, {"in": [{"segment": inside.id}], "out": [{"segment": out.id}]}
        )
        guess = estimate(
            Moment(session, dictionary(session), NOW, zoneinfo.ZoneInfo("Europe/London")), send
        )
        ident = send.id
    assert guess.outcomes == {
        "go": 5,
        "no_consent": 2,
        "no_address": 1,
        "bounced_before": 1,
        "suppressed": 1,
        "bad_address": 1,
        "duplicate": 1,
    }
    assert guess.left_out == [("Out of town", 1)]
    keeper.refuse, keeper.defer = ("hard@post.example",), ("later@post.example",)
    start(database, settings, ident, 5)
    run_all(database, ident)
    found, send = counts(database, ident)
    assert found == {
        "deferred": 1,
        "delivered": 3,
        "bounced": 1,
        "duplicate": 1,
        "no_consent": 2,
        "suppressed": 1,
        "no_address": 1,
        "bad_address": 1,
        "bounced_before": 1,
    }
    assert send.state == "running"
    with database.session() as session:
        why = session.execute(
            sa.text(
                "SELECT outcome, stood_on FROM deliveries WHERE stood_on IS NOT NULL ORDER BY "
                "outcome, stood_on::text"
            )
        ).all()
        assert why == [
            ("bad_address", {"because": "bad_address", "address_usable": False}),
            ("bounced_before", {"because": "bounced", "bounced": True}),
            ("duplicate", {"because": "repeated_address", "repeated_address": True}),
            ("no_address", {"because": "no_address", "has_address": False}),
            ("no_consent", {"because": "never_asked", "consent": None, "channel_consent": None}),
            ("no_consent", {"because": "refused_channel", "channel_consent": False}),
            ("suppressed", {"because": "suppressed", "suppressed": True}),
        ]
        assert (
            session.scalars(
                sa.select(Contact.bounced_at).where(Contact.email_key == "hard@post.example")
            ).one()
            is not None
        )
    keeper.defer = ()
    with clock.at(NOW + dt.timedelta(hours=1)):
        work(database)
    found, send = counts(database, ident)
    assert (found["delivered"], "deferred" in found, send.state) == (4, False, "done")
    assert sorted(x.to for x in keeper.letters) == [
        "ann@post.example",
        "ben@post.example",
        "cleo@post.example",
        "hard@post.example",
        "later@post.example",
        "later@post.example",
    ]


def test_a_letter_is_personal_and_has_a_way_out(database, settings, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        contact = add(session, NOW, "zoe@post.example", first_name="Zoë")
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        ident, person = send.id, contact.id
    start(database, settings, ident, 1)
    run_all(database, ident)
    letter = keeper.letters[0]
    keys = signing.Tokens(settings.secret, number_of(database, ident, person), person)
    assert letter.subject == "Hello Zoë" and "Dear Zoë" in letter.html and "Dear Zoë" in letter.text
    assert (
        letter.message_id == f"<{keys['message']}@mail.example>"
        and letter.return_path == f"bounce+{keys['bounce']}@mail.example"
    )
    assert (
        letter.unsubscribe == f"http://127.0.0.1:1/u/{keys['leave']}"
        and f"/c/{keys['click']}/0" in letter.html
    )


def test_consent_is_asked_again_at_the_moment_of_sending(database, settings, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        contact = add(session, NOW, "ann@post.example")
        ident = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []}).id
        person = contact.id
    start(database, settings, ident, 1)
    with clock.at(NOW):
        jobs.run_here("sends.take", send_id=ident)
    with database.session() as session:
        people.set_consent(session, NOW, person, 0, False, "by phone")
    with clock.at(NOW):
        work(database)
    assert counts(database, ident)[0] == {"no_consent": 1}
    assert keeper.letters == []


def test_running_everything_twice_sends_nothing_twice(database, settings, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 50)
        ident = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []}).id
    start(database, settings, ident, 50)
    run_all(database, ident)
    run_all(database, ident)
    assert len(keeper.letters) == 50
    assert counts(database, ident)[0] == {"delivered": 50}
    with pytest.raises(Conflict, match="started already"):
        start(database, settings, ident, 50)


def test_a_mail_server_that_hangs_up_loses_nobody(database, settings, job_context, keeper):
    ident = started(database, settings, 300)
    keeper.break_after = 120
    run_all(database, ident)
    found, send = counts(database, ident)
    assert found == {"delivered": 120, "waiting": 180}
    assert "hung up" in send.trouble
    keeper.break_after = None
    with clock.at(NOW):
        work(database)
    found, send = counts(database, ident)
    assert found == {"delivered": 300} and send.trouble == "" and send.state == "done"
    assert len({x.to for x in keeper.letters}) == len(keeper.letters) == 300


@pytest.mark.parametrize(
    ("remembers", "after"), [("first", {"delivered": 3}), (None, {"in_doubt": 1, "delivered": 2})]
)
def test_what_a_dead_worker_left_is_settled_by_asking_never_sent_blindly(
    database, settings, job_context, keeper, remembers, after
):
    ident = started(database, settings, 3)
    with clock.at(NOW):
        jobs.run_here("sends.take", send_id=ident)
    with database.session() as session:
        first = session.execute(
            sa.text(
                "UPDATE deliveries SET outcome = 'in_hand' WHERE contact_id = (SELECT "
                "min(contact_id) FROM deliveries) RETURNING contact_id"
            )
        ).scalar_one()
    key = token_of(database, settings, "message", ident, first)
    keeper.remembers = {f"<{key}@mail.example>"} if remembers else None
    with clock.at(NOW):
        work(database)
    assert counts(database, ident)[0] == after
    assert len(keeper.letters) == 2
    if remembers is None:
        with clock.at(NOW), database.session() as session:
            actions.settle_doubts(
                session, IDA, NOW, session.get_one(Send, ident), [first], arrived=False
            )
        with clock.at(NOW):
            work(database)
        assert counts(database, ident)[0] == {"delivered": 3}


def test_pause_resume_and_stop(database, settings, job_context, keeper, monkeypatch):
    monkeypatch.setattr(claims, "BATCH", 10)
    ident = started(database, settings, 30)
    with clock.at(NOW):
        jobs.run_here("sends.take", send_id=ident)
        jobs.run_here("outgoing.deliver")
        with database.session() as session:
            actions.pause(session, IDA, NOW, session.get_one(Send, ident))
        jobs.run_here("outgoing.deliver")
        assert counts(database, ident)[0] == {"waiting": 20, "delivered": 10}
        with database.session() as session:
            actions.resume(session, IDA, NOW, session.get_one(Send, ident))
        jobs.run_here("outgoing.deliver")
        with database.session() as session:
            actions.stop(session, IDA, NOW, session.get_one(Send, ident))
        jobs.run_here("outgoing.deliver")
    found, send = counts(database, ident)
    assert (found, send.state) == ({"delivered": 20, "stopped": 10}, "stopped")
    with database.session() as session, pytest.raises(Conflict, match="cannot be resumed"):
        actions.resume(session, IDA, NOW, session.get_one(Send, ident))


@pytest.mark.parametrize("verb", ["pause", "stop"])
def test_pausing_and_stopping_take_hold_in_the_middle_of_a_chunk(
    database, settings, job_context, monkeypatch, verb
):
    ident = started(database, settings, 10)
    seen = []

    class Held(Keeper):
        def hand_over(self, messages, begin=all_may_go):
            for place, handed in enumerate(super().hand_over(messages, begin)):
                yield dataclasses.replace(
                    handed, outcome={1: "bounced", 2: "deferred"}.get(place, "delivered")
                )
                with database.session() as session:
                    send = session.get_one(Send, ident)
                    seen.append(tally(session, send.dispatch_id))
                    if len(seen) == 4:
                        getattr(actions, verb)(session, IDA, NOW, send)

    held = Held()
    monkeypatch.setattr(smtp, "gateway", lambda settings, signer=None, route="first": held)
    with clock.at(NOW):
        jobs.run_here("sends.take", send_id=ident)
        work(database)
        # What is known is on the page while the chunk still goes out; the fourth was on its way
        # when somebody paused.
        assert (
            seen[3] == {"in_hand": 1, "waiting": 6, "delivered": 1, "bounced": 1, "deferred": 1}
            and len(held.letters) == 4
        )
        kept = {"deferred": 1, "waiting": 6} if verb == "pause" else {"stopped": 7}
        assert counts(database, ident)[0] == {"delivered": 2, "bounced": 1, **kept}
        if verb == "pause":
            with database.session() as session:
                actions.resume(session, IDA, NOW, session.get_one(Send, ident))
            work(database)
            assert (
                counts(database, ident)[0] == {"delivered": 6, "bounced": 2, "deferred": 2}
                and len({x.to for x in held.letters}) == 10
            )


@pytest.mark.parametrize(
    ("verb", "after"),
    [("pause", {"delivered": 1, "waiting": 2}), ("stop", {"delivered": 1, "stopped": 2})],
)
def test_what_a_dead_worker_held_is_settled_also_when_the_send_was_paused_or_stopped(
    database, settings, job_context, keeper, verb, after
):
    ident = started(database, settings, 3)
    with clock.at(NOW):
        jobs.run_here("sends.take", send_id=ident)
        with database.session() as session:
            # Two were in its hands: one arrived, one did not; the third waits.
            held = session.scalars(
                sa.text(
                    "UPDATE deliveries SET outcome = 'in_hand' WHERE contact_id < (SELECT "
                    "max(contact_id) FROM deliveries) RETURNING contact_id"
                )
            ).all()
            session.execute(sa.text("DELETE FROM procrastinate_jobs"))
            getattr(actions, verb)(session, IDA, NOW, session.get_one(Send, ident))
        keeper.remembers = {
            f"<{token_of(database, settings, 'message', ident, held[0])}@mail.example>"
        }
        jobs.run_here("outgoing.sweep")
        with database.session() as session:
            assert session.scalars(sa.text("SELECT task_name FROM procrastinate_jobs")).all() == [
                "outgoing.settle"
            ]
        drain(database)
    assert (counts(database, ident)[0], keeper.letters) == (after, [])


def test_a_send_is_taken_back_while_its_audience_is_being_settled(
    database, settings, job_context, keeper
):
    ident = started(database, settings, 3)
    with clock.at(NOW):
        with database.session() as session:
            actions.unplan(session, IDA, NOW, session.get_one(Send, ident))
        jobs.run_here("sends.take", send_id=ident)
    with database.session() as session:
        send = session.get_one(Send, ident)
        assert (tally(session, send.dispatch_id), send.state, send.edition_id) == (
            {},
            "draft",
            None,
        )


def test_the_database_itself_guards_the_audience(database, settings, job_context, keeper):
    ident = started(database, settings, 3)
    run_all(database, ident)
    for statement in (
        "DELETE FROM deliveries WHERE contact_id = 1",
        "INSERT INTO deliveries (contact_id, dispatch_id, taken_at, due, outcome) SELECT 99, "
        "dispatch_id, taken_at, taken_at, "
        "'waiting' FROM deliveries LIMIT 1",
        "UPDATE dispatches SET size = 2",
    ):
        with pytest.raises(sa.exc.DatabaseError, match="sealed"), database.session() as session:
            session.execute(sa.text(statement))
    with (
        pytest.raises(sa.exc.IntegrityError, match="ck_deliveries_outcome"),
        database.session() as session,
    ):
        session.execute(sa.text("UPDATE deliveries SET outcome = 'lost'"))


class TestStarting:
    def test_what_must_be_mended_stops_it(self, database, settings, still):
        with database.session() as session:
            add(session, NOW, "ann@post.example")
            send = ready_send(session, NOW, {"in": [], "out": []}, success=None)
            with pytest.raises(Invalid, match="Nobody is chosen yet"):
                actions.start(session, IDA, NOW, send, settings.public_url, 1, send.version)
            send.audience = {"in": [{"segment": segment(session).id}], "out": []}
            session.flush()
            with pytest.raises(Invalid, match="Nobody would get this"):
                actions.start(session, IDA, NOW, send, settings.public_url, 0, send.version)
            with pytest.raises(Conflict, match="was changed since"):
                actions.start(session, IDA, NOW, send, settings.public_url, 1, send.version + 1)

    def test_a_planned_one_goes_at_its_moment(self, database, settings, job_context, keeper):
        with clock.at(NOW), database.session() as session:
            add(session, NOW, "ann@post.example")
            kinds(session)
            send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
            send.leaves_at = NOW + dt.timedelta(hours=2)
            ident = send.id
        start(database, settings, ident, 1)
        for hours, state in ((1, "planned"), (2, "taking")):
            with clock.at(NOW + dt.timedelta(hours=hours)):
                jobs.run_here("sends.sweep")
            with database.session() as session:
                assert session.get_one(Send, ident).state == state

    def test_two_authors_never_overwrite_each_other(self, database, settings, still):
        with database.session() as session:
            send = ready_send(session, NOW, {"in": [], "out": []}, success=None)
            version = send.version
            actions.change(session, IDA, NOW, send, version, {"name": "First"})
            with pytest.raises(Conflict, match="changed this send while"):
                actions.change(session, IDA, NOW, send, version, {"name": "Second"})


def test_a_send_is_not_done_while_a_dead_workers_rows_are_being_settled(
    database, settings, job_context, keeper
):
    ident = started(database, settings, 2)
    with clock.at(NOW):
        jobs.run_here("sends.take", send_id=ident)
    with database.session() as session:
        session.execute(sa.text("UPDATE deliveries SET outcome = 'in_hand'"))
    seen = []

    def took(message_ids):
        # Meanwhile another worker looks whether the send is done.
        with database.session() as session:
            send = session.get_one(Send, ident)
            settling.finish_if_done(session, send.dispatch_id, send.taken_at, NOW)
            seen.append(send.state)
        return dict.fromkeys(message_ids, False)

    keeper.took, keeper.remembers = took, ()
    with clock.at(NOW):
        work(database)
    assert seen == ["running"]
    found, send = counts(database, ident)
    assert (found, send.state) == ({"delivered": 2}, "done")
