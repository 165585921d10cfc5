"""What a worker holds, what it may lose, and what becomes of the messages that were under way
then."""

import contextlib
import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.gateways import smtp
from meadowrun.gateways.handing import Handed, all_may_go
from meadowrun.outgoing import batch, claims
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA
from tests.store.sending import Keeper, counts, run_all, started
from tests.store.work import drain, reacted, token_of, work

#: Ends the connection of whoever holds an advisory lock here, as a firewall or a restart of the
#: database would.
END_LOCKS = """
SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory'
AND database = (SELECT oid FROM pg_database WHERE datname = current_database())
"""


class Watched(Keeper):
    """Does something once so many letters have left."""

    def __init__(self, after, deed, **more):
        super().__init__(**more)
        self.after, self.deed = after, deed

    def hand_over(self, messages, begin=all_may_go):
        for handed in super().hand_over(messages, begin):
            if len(self.letters) == self.after and self.deed:
                deed, self.deed = self.deed, None
                deed()
            yield handed


def taken(database, people, monkeypatch, gateway, settings):
    ident = started(database, settings, people)
    monkeypatch.setattr(smtp, "gateway", lambda settings, signer=None, route="first": gateway)
    jobs.run_here("sends.take", send_id=ident)
    return ident


def under_way(database, number=1):
    """What a worker leaves that dies with so many emails under way: noted with all that is needed
    to show them."""
    with database.session() as session:
        session.execute(
            sa.text(
                "UPDATE deliveries SET outcome = 'in_hand', claim = gen_random_uuid(), "
                "claimed_at = clock_timestamp() "
                "WHERE contact_id IN (SELECT contact_id FROM deliveries ORDER BY contact_id "
                "LIMIT :n)"
            ),
            {"n": number},
        )


def settle_now(database):
    """As the sweep has it done where the settings say that the gateway can be asked."""
    with database.session() as session:
        found = session.execute(sa.text("SELECT id FROM dispatches")).scalar_one()
    jobs.run_here("outgoing.settle", dispatch_id=found)


def sends(database):
    with database.session() as session:
        return session.execute(
            sa.text(
                "SELECT s.state, d.unsettled FROM sends s JOIN dispatches d ON d.id = s.dispatch_id"
            )
        ).one()


@pytest.mark.parametrize("sent_before", [1, 3, 9])
def test_whoever_lost_the_lock_stops_and_nobody_gets_it_twice(
    database, settings, job_context, still, monkeypatch, sent_before
):
    """The lock's connection ends while a chunk is handed over, and another worker takes the chunk
    at once."""
    ids = []

    def lose():
        with database.session() as session:
            assert session.execute(sa.text(END_LOCKS)).scalars().all()
        work(database)

    gateway = Watched(sent_before, lose)
    ids.append(taken(database, 10, monkeypatch, gateway, settings))
    work(database)
    assert sorted(x.contact_id for x in gateway.letters) == list(range(1, 11))
    # The one that had just left was in no doubt for long: who handed it over still says what became
    # of it.
    assert counts(database, ids[0])[0] == {"delivered": 10}
    jobs.run_here("outgoing.sweep")
    assert sends(database) == ("done", False)


def test_another_workers_token_takes_the_rest_away(
    database, settings, job_context, still, monkeypatch
):
    """Even on a connection that lives, a token that is not ours any more lets nothing leave."""
    others = contextlib.ExitStack()

    def overtaken():
        with database.session() as session:
            dispatch = session.execute(
                sa.text("SELECT dispatch_id FROM deliveries LIMIT 1")
            ).scalar_one()
        other = others.enter_context(claims.Claim.begin_new(database, dispatch, "deliver"))
        with database.session() as session:
            session.execute(
                sa.text("UPDATE deliveries SET claim = :c WHERE outcome = 'waiting'"),
                {"c": other.key["claim"]},
            )

    gateway = Watched(4, overtaken)
    ident = taken(database, 10, monkeypatch, gateway, settings)
    with others:
        work(database)
        assert len(gateway.letters) == 4
        assert counts(database, ident)[0] == {"delivered": 4, "waiting": 6}
    # The other ends without having sent anything: its people are free.
    work(database)
    assert counts(database, ident)[0] == {"delivered": 10} and len(gateway.letters) == 10


def test_a_worker_that_dies_leaves_only_what_was_under_way(
    database, settings, job_context, still, monkeypatch
):
    def die():
        raise SystemExit

    gateway = Watched(4, die)
    ident = taken(database, 10, monkeypatch, gateway, settings)
    with pytest.raises(SystemExit):
        work(database)
    assert counts(database, ident)[0] == {"delivered": 3, "in_hand": 1, "waiting": 6}
    work(database)
    assert counts(database, ident)[0] == {"delivered": 9, "in_doubt": 1}
    # Nobody can be asked: the send has ended, and a person decides.
    assert sends(database) == ("done", True)


def test_done_is_impossible_while_anybody_is_open(database, settings, job_context, still, keeper):
    ident = started(database, settings, 3)
    jobs.run_here("sends.take", send_id=ident)
    for outcome in ("waiting", "in_hand", "deferred"):
        with database.session() as session:
            session.execute(
                sa.text("UPDATE deliveries SET outcome = :o WHERE contact_id = 1"), {"o": outcome}
            )
        with (
            pytest.raises(sa.exc.DatabaseError, match="cannot be done"),
            database.session() as session,
        ):
            session.execute(sa.text("UPDATE dispatches SET state = 'done'"))
    with database.session() as session:
        session.execute(sa.text("UPDATE deliveries SET outcome = 'in_doubt', due = now()"))
    with pytest.raises(sa.exc.DatabaseError, match="cannot be done"), database.session() as session:
        session.execute(sa.text("UPDATE dispatches SET state = 'done'"))
    with database.session() as session:
        session.execute(sa.text("UPDATE deliveries SET outcome = 'in_doubt', due = NULL"))
        session.execute(sa.text("UPDATE dispatches SET state = 'done'"))
    with pytest.raises(sa.exc.DatabaseError, match="set it running"), database.session() as session:
        session.execute(
            sa.text(
                "UPDATE deliveries SET outcome = 'waiting', due = taken_at WHERE contact_id = 2"
            )
        )
    with (
        pytest.raises(sa.exc.DatabaseError, match="cannot be closed"),
        database.session() as session,
    ):
        session.execute(sa.text("UPDATE dispatches SET unsettled = FALSE"))


def test_what_is_settled_late_sets_a_send_running_again(
    database, settings, job_context, still, keeper
):
    """Receipts were away, then come back: who waits again is sent to, although the send was
    done."""
    ident = started(database, settings, 3)
    jobs.run_here("sends.take", send_id=ident)
    under_way(database, 2)
    keeper.remembers = None
    work(database)
    jobs.run_here("outgoing.sweep")
    assert (counts(database, ident)[0], sends(database)) == (
        {"in_doubt": 2, "delivered": 1},
        ("done", True),
    )
    with database.session() as session:
        session.execute(
            sa.text("UPDATE deliveries SET claimed_at = claimed_at - interval '1 hour'")
        )
    keeper.remembers = set()
    settle_now(database)
    work(database)
    assert (counts(database, ident)[0], sends(database).state) == ({"delivered": 3}, "done")


def test_receipts_that_do_not_answer_are_asked_later_and_done_waits(
    database, settings, job_context, keeper
):
    with clock.at(NOW):
        ident = started(database, settings, 3)
        jobs.run_here("sends.take", send_id=ident)
    under_way(database)
    keeper.remembers, asked = (), []

    def silent(ids):
        asked.append(ids)
        return {}

    keeper.took = silent
    minutes = (0, 0.1, 0.3, 1, 1.5, 3, 10, 60, 200)
    for after in minutes:
        with clock.at(NOW + dt.timedelta(minutes=after)):
            jobs.run_here("outgoing.sweep")
            work(database)
            assert counts(database, ident)[0] == {"delivered": 2, "in_doubt": 1}
            assert sends(database) == ("running", True)
    # At 0, 15, 45 s, 1 min 45 s … : the gaps double, and not every look asks.
    assert len(asked) < len(minutes)
    keeper.took = lambda ids: dict.fromkeys(ids, True)
    with clock.at(NOW + dt.timedelta(hours=9)):
        work(database)
    assert (counts(database, ident)[0], sends(database)) == ({"delivered": 3}, ("done", False))


def test_not_taken_is_believed_only_after_the_servers_own_time(
    database, settings, job_context, still, keeper
):
    ident = started(database, settings, 2)
    jobs.run_here("sends.take", send_id=ident)
    under_way(database)
    keeper.remembers = set()
    work(database)
    assert counts(database, ident)[0] == {"delivered": 1, "in_hand": 1} and len(keeper.letters) == 1
    assert sends(database) == ("running", True)
    # Seven seconds later it is there after all.
    keeper.remembers = {f"<{token_of(database, settings, 'message', ident, 1)}@mail.example>"}
    work(database)
    assert counts(database, ident)[0] == {"delivered": 2} and len(keeper.letters) == 1


def test_a_settled_email_can_be_shown_exactly(database, settings, job_context, still, monkeypatch):
    def die():
        raise SystemExit

    gateway = Watched(1, die, remembers=set())
    ident = taken(database, 2, monkeypatch, gateway, settings)
    with pytest.raises(SystemExit):
        work(database)
    gateway.remembers = {gateway.letters[0].message_id}
    work(database)
    assert counts(database, ident)[0] == {"delivered": 2}
    with database.session() as session:
        rows = session.execute(
            sa.text(
                "SELECT contact_id, address, filled->>'contact.first_name' FROM deliveries ORDER "
                "BY 1"
            )
        ).all()
    assert rows == [(1, "p1@post.example", "First1"), (2, "p2@post.example", "First2")]


def test_an_opening_settles_a_doubt(database, settings, job_context, still, keeper):
    ident = started(database, settings, 2)
    jobs.run_here("sends.take", send_id=ident)
    under_way(database)
    with database.session() as session:
        reacted(session, session.get_one(Send, ident), 1, "opened", NOW)
    work(database)
    assert counts(database, ident)[0] == {"delivered": 2} and [
        x.contact_id for x in keeper.letters
    ] == [2]


@pytest.mark.parametrize(
    ("arrived", "state", "after"),
    [
        (True, "done", {"delivered": 3}),
        (False, "running", {"waiting": 3}),
        (False, "stopped", {"stopped": 3}),
    ],
)
def test_doubts_are_settled_many_at_once(
    database, settings, job_context, still, keeper, arrived, state, after
):
    ident = started(database, settings, 3)
    jobs.run_here("sends.take", send_id=ident)
    under_way(database, 3)
    if state == "stopped":
        with database.session() as session:
            actions.stop(session, IDA, NOW, session.get_one(Send, ident))
    work(database)
    with database.session() as session:
        assert (
            actions.settle_doubts(session, IDA, NOW, session.get_one(Send, ident), None, arrived)
            == 3
        )
    assert (counts(database, ident)[0], sends(database).state) == (after, state)


def test_a_send_that_was_stopped_weeks_ago_is_still_settled(
    database, settings, job_context, keeper
):
    with clock.at(NOW):
        ident = started(database, settings, 2)
        jobs.run_here("sends.take", send_id=ident)
        under_way(database)
        with database.session() as session:
            actions.stop(session, IDA, NOW, session.get_one(Send, ident))
            session.execute(sa.text("DELETE FROM procrastinate_jobs"))
    keeper.remembers = {f"<{token_of(database, settings, 'message', ident, 1)}@mail.example>"}
    with clock.at(NOW + dt.timedelta(days=30)):
        jobs.run_here("outgoing.sweep")
        with database.session() as session:
            assert session.scalars(sa.text("SELECT task_name FROM procrastinate_jobs")).all() == [
                "outgoing.settle"
            ]
        work(database)
        jobs.run_here("outgoing.sweep")
    assert (counts(database, ident)[0], sends(database)) == (
        {"delivered": 1, "stopped": 1},
        ("stopped", False),
    )


class TestOneAndTheOthers:
    """Whatever fails for one person is that person's outcome; the batch goes on."""

    def test_a_value_that_cannot_be_stored(
        self, database, settings, job_context, still, keeper, monkeypatch
    ):
        ident = started(database, settings, 5)
        jobs.run_here("sends.take", send_id=ident)
        from meadowrun.messages.values import Filler

        real = Filler.complete_all

        def poisoned(self, people, now):
            found = real(self, people, now)
            people[1]["contact.town"] = "a\0b"
            people[3]["contact.town"] = "half \ud83d"
            return found

        monkeypatch.setattr(Filler, "complete_all", poisoned)
        work(database)
        assert counts(database, ident)[0] == {"delivered": 3, "not_rendered": 2}

    def test_a_gateway_that_says_what_no_database_holds(
        self, database, settings, job_context, still, keeper, monkeypatch
    ):
        ident = started(database, settings, 2)
        monkeypatch.setattr(
            Keeper,
            "hand_over",
            lambda self, messages, begin: (
                Handed(letter.contact_id, "bounced", "550 \0\ud800 no")
                for one in messages
                for letter in begin([one])
            ),
        )
        run_all(database, ident)
        assert counts(database, ident)[0] == {"bounced": 2}

    def test_a_batch_that_fails_as_a_whole_is_tried_and_then_shown(
        self, database, settings, job_context, keeper, monkeypatch, web
    ):
        with clock.at(NOW):
            ident = started(database, settings, 3)
            jobs.run_here("sends.take", send_id=ident)
        monkeypatch.setattr(batch, "facts_sql", lambda *_: 1 / 0)
        for hours in range(8):
            with clock.at(NOW + dt.timedelta(hours=hours)):
                with database.session() as session:
                    session.execute(sa.text("DELETE FROM procrastinate_jobs"))
                jobs.run_here("outgoing.sweep")
                with database.session() as session:
                    due = session.scalars(sa.text("SELECT task_name FROM procrastinate_jobs")).all()
                assert due == (
                    ["outgoing.deliver"] if not hours else ["outgoing.again"] if hours < 5 else []
                )
                drain(database)
        assert counts(database, ident)[0] == {"waiting": 3}
        page = web.get(f"/sends/{ident}").text
        assert "division by zero" in page and "Try again" in page
        assert "division by zero" in web.get("/").text
        monkeypatch.undo()
        web.post(f"/sends/{ident}/again")
        with database.session() as session:
            assert (
                "outgoing.sweep"
                in session.scalars(sa.text("SELECT task_name FROM procrastinate_jobs")).all()
            )
        assert "division by zero" not in web.get(f"/sends/{ident}").text

    def test_one_whose_facts_the_database_cannot_work_out(
        self, database, settings, job_context, still, keeper, monkeypatch
    ):
        ident = started(database, settings, 9)
        jobs.run_here("sends.take", send_id=ident)
        real = batch.fill_sql
        fault = "jsonb_build_object('x', (CASE WHEN c.id = 4 THEN 'no number' ELSE '1' END)::int)"
        monkeypatch.setattr(batch, "fill_sql", lambda *a: f"{fault} || {real(*a)}")
        work(database)
        assert counts(database, ident)[0] == {"delivered": 8, "not_rendered": 1}
        with database.session() as session:
            assert (
                "invalid input syntax"
                in session.scalars(
                    sa.text("SELECT note FROM deliveries WHERE contact_id = 4")
                ).one()
            )


def test_sends_take_turns(database, settings, job_context, still, keeper, monkeypatch):
    """A second send does not wait until the first has gone, and what is about something of theirs
    goes first."""
    monkeypatch.setattr(claims, "BATCH", 10)
    first = started(database, settings, 50)
    jobs.run_here("sends.take", send_id=first)
    jobs.run_here("outgoing.deliver")
    second = started_again(database, settings, "agreed")
    third = started_again(database, settings, "service")
    order = []
    for _ in range(14):
        before = len(keeper.letters)
        jobs.run_here("outgoing.deliver")
        order.append({letter.feedback_id.split(":")[0] for letter in keeper.letters[before:]})
    of = {ident: {f"send{ident}"} for ident in (first, second, third)}
    assert order[:5] == [of[third]] * 5
    assert order[5:13] == [of[second], of[first]] * 4
    assert order[13] == of[second]


def started_again(database, settings, rule):
    from tests.store.people import ready_send

    with database.session() as session:
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        send.consent_rule = rule
        session.flush()
        actions.start(session, IDA, NOW, send, settings.public_url, 50, send.version)
        ident = send.id
    jobs.run_here("sends.take", send_id=ident)
    return ident


def test_whom_somebody_else_is_judging_is_left_for_the_next(
    database, settings, job_context, still, keeper
):
    """Two verdicts on one person at the same moment would each not know of the other."""
    ident = started(database, settings, 4)
    jobs.run_here("sends.take", send_id=ident)
    with database.session() as other:
        other.execute(sa.text("SELECT 1 FROM contacts WHERE id = 2 FOR NO KEY UPDATE"))
        jobs.run_here("outgoing.deliver")
        assert counts(database, ident)[0] == {"delivered": 3, "waiting": 1} and [
            x.contact_id for x in keeper.letters
        ] == [1, 3, 4]
    jobs.run_here("outgoing.deliver")
    assert counts(database, ident)[0] == {"delivered": 4}


def test_several_to_one_person_go_one_after_the_other(
    database, settings, job_context, still, keeper
):
    """From a dispatch without an end people get something as often as they come, each time under a
    key of its own."""
    ident = started(database, settings, 3)
    run_all(database, ident)
    with database.session() as session:
        sealed = session.execute(sa.text("SELECT id FROM dispatches")).scalar_one()
        columns = (
            "owner_kind, owner_id, name, channel, message_id, edition_id, sender_id, "
            "campaign_id, consent_rule, facts, taken_at, state"
        )
        made = session.execute(
            sa.text(
                f"INSERT INTO dispatches ({columns}) SELECT "
                f"{columns.replace('state', chr(39) + 'running' + chr(39))} "
                "FROM dispatches WHERE id = :id RETURNING id"
            ),
            {"id": sealed},
        ).scalar_one()
        session.execute(
            sa.text(
                "INSERT INTO deliveries (contact_id, dispatch_id, occurrence, taken_at, due, "
                "outcome) SELECT 1, id, n, taken_at, "
                "taken_at + make_interval(hours => n), 'waiting' FROM dispatches, "
                "generate_series(0, 2) n WHERE id = :id"
            ),
            {"id": made},
        )
    del keeper.letters[:]
    for hours, letters in ((0, 1), (0.5, 1), (1, 2), (3, 3), (9, 3)):
        with clock.at(NOW + dt.timedelta(hours=hours)):
            work(database)
        assert len(keeper.letters) == letters, hours
    assert {x.contact_id for x in keeper.letters} == {1} and len(
        {x.message_id for x in keeper.letters}
    ) == 3
    with database.session() as session:
        assert session.execute(
            sa.text("SELECT outcome, count(*) FROM deliveries WHERE dispatch_id = :id GROUP BY 1"),
            {"id": made},
        ).all() == [("delivered", 3)]
        assert (
            session.execute(
                sa.text("SELECT state FROM dispatches WHERE id = :id"), {"id": made}
            ).scalar()
            == "running"
        ), "more may come"
    with (
        pytest.raises(sa.exc.IntegrityError, match="_pkey|pk_deliveries"),
        database.session() as session,
    ):
        session.execute(
            sa.text(
                "INSERT INTO deliveries (contact_id, dispatch_id, occurrence, taken_at, due, "
                "outcome) SELECT 1, id, 2, taken_at, taken_at, 'waiting' FROM dispatches WHERE id "
                "= :id"
            ),
            {"id": made},
        )


def test_nobody_waits_without_a_moment(database, settings, job_context, still, keeper):
    ident = started(database, settings, 2)
    jobs.run_here("sends.take", send_id=ident)
    with (
        pytest.raises(sa.exc.IntegrityError, match="ck_deliveries_due"),
        database.session() as session,
    ):
        session.execute(sa.text("UPDATE deliveries SET due = NULL"))
