"""How fast emails leave: by the domain they go to, by how its server takes them, from a domain that
is new; and by which of two mail servers."""

import contextlib
import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import GatewayUnavailable, Invalid, NotFound
from meadowrun.core.guardrails.speeds import WarmUp
from meadowrun.features import load_tasks
from meadowrun.gateways import smtp
from meadowrun.gateways.handing import Handed, all_may_go
from meadowrun.gateways.routes import TwoRoutes
from meadowrun.messages.senders import Sender
from meadowrun.outgoing import speeds
from meadowrun.outgoing.models import Delivery
from meadowrun.outgoing.speeds import MailSpeed
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from meadowrun.village.post import post_office
from meadowrun.village.store import Store
from tests.conftest import NOW, settings_for
from tests.ports import own_port
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, go, segment, started
from tests.store.web import sign_in
from tests.store.work import work

MINUTE = dt.timedelta(minutes=1)
DAY = dt.timedelta(days=1)
POST = "post.example"
#: That of the sender of `ready_send`.
FROM = "farrowhill.example"


def stand(database, ident):
    """How many people of a send stand where."""
    return {outcome: people for outcome, people in counts(database, ident)[0].items() if people}


def waiting(database, ident):
    """When those who wait of a send have their turn, in order, with the reason."""
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        rows = session.scalars(
            sa.select(Delivery)
            .where(Delivery.dispatch_id == dispatch, Delivery.outcome == "waiting")
            .order_by(Delivery.due)
        )
        return [(row.due, row.stood_on["because"]) for row in rows]


def set_speed(database, domain, per_hour):
    with database.session() as session:
        speeds.save_speed(session, IDA, NOW, domain, per_hour)


def turns(database, now):
    """What was asked for when speeds changed, or a send was stopped."""
    with clock.at(now), database.session() as session:
        asked = session.execute(
            sa.text(
                "UPDATE procrastinate_jobs SET status = 'succeeded' WHERE status = 'todo' "
                "AND task_name = 'outgoing.turns' RETURNING args"
            )
        )
        found = asked.scalars().all()
    for args in found:
        with clock.at(now):
            jobs.run_here("outgoing.turns", **args)
    return len(found)


def test_emails_to_a_domain_leave_evenly(database, settings, job_context, keeper):
    """120 an hour are two a minute: two at once, then one each half minute."""
    set_speed(database, POST, 120)
    ident = started(database, settings, 6)
    go(database, NOW)
    assert stand(database, ident) == {"delivered": 2, "waiting": 4}
    half = MINUTE / 2
    assert waiting(database, ident) == [(NOW + n * half, "mail_speed") for n in (1, 2, 3, 4)]
    for place in (1, 2, 3, 4):
        go(database, NOW + place * half)
        assert len(keeper.letters) == 2 + place
    assert stand(database, ident) == {"delivered": 6}


@pytest.mark.parametrize(("own", "gone"), [(None, 2), (60, 1), (6000, 4)])
def test_a_domain_of_its_own_goes_before_every_other(
    database, settings, job_context, keeper, own, gone
):
    set_speed(database, speeds.EVERY_OTHER, 120)
    if own:
        set_speed(database, "POST.example", own)
    ident = started(database, settings, 4)
    go(database, NOW)
    assert stand(database, ident).get("delivered") == gone


def test_each_domain_has_its_own_turns(database, settings, job_context, keeper):
    set_speed(database, speeds.EVERY_OTHER, 60)
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 2, "one.example")
        many_more(session, 3, "two.example")
    ident = sent_to_all(database, settings, 5)
    go(database, NOW)
    gone = sorted(letter.to.partition("@")[2] for letter in keeper.letters)
    assert gone == ["one.example", "two.example"]
    assert stand(database, ident) == {"delivered": 2, "waiting": 3}


def many_more(session, count, host):
    session.execute(
        sa.text(
            "WITH made AS (INSERT INTO contacts (email, email_key, email_usable, attributes, "
            "search_key, name_key, created_at, updated_at) SELECT 'q' || n || '@' || :host, "
            "'q' || n || '@' || :host, true, '{}', '', '', :now, :now "
            "FROM generate_series(1, :count) n RETURNING id) "
            "INSERT INTO consents (contact_id, channel, topic_id, agreed, at, how) "
            "SELECT id, 'email', 0, true, :now, 'test' FROM made"
        ),
        {"count": count, "host": host, "now": NOW},
    )


def sent_to_all(database, settings, going, **how):
    with clock.at(NOW), database.session() as session:
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        for name, value in how.items():
            setattr(send, name, value)
        session.flush()
        actions.start(session, IDA, NOW, send, settings.public_url, going, send.version)
        return send.id


def test_service_messages_do_not_wait_but_count(database, settings, job_context, keeper):
    set_speed(database, POST, 120)
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 5)
    ident = sent_to_all(database, settings, 5, consent_rule="service")
    go(database, NOW)
    assert stand(database, ident) == {"delivered": 5}
    with database.session() as session:
        assert session.get_one(MailSpeed, POST).free_at == NOW + 5 * MINUTE / 2


def test_a_server_that_delays_gets_nothing_for_a_while(database, settings, job_context, keeper):
    """Ten of twenty delayed: all others to that domain wait, each time for longer, until one batch
    is taken."""
    keeper.defer = {f"p{n}@{POST}" for n in range(1, 11)}
    first = started(database, settings, 20)
    go(database, NOW)
    assert stand(database, first) == {"delivered": 10, "deferred": 10}
    with database.session() as session:
        row = session.get_one(MailSpeed, POST)
        assert (row.delays, row.not_before) == (1, NOW + 5 * MINUTE)
    second = sent_to_all(database, settings, 20)
    go(database, NOW + MINUTE)
    assert waiting(database, second) == [(NOW + 5 * MINUTE, "mail_delays")] * 20
    assert len(keeper.letters) == 20
    go(database, NOW + 5 * MINUTE)
    with database.session() as session:
        row = session.get_one(MailSpeed, POST)
        assert (row.delays, row.not_before) == (2, NOW + 15 * MINUTE)
    keeper.defer = set()
    go(database, NOW + 25 * MINUTE)
    assert stand(database, first) == {"delivered": 20}
    with database.session() as session:
        assert session.get_one(MailSpeed, POST).delays == 0
        assert speeds.all_speeds(session) == []


def test_a_few_that_are_delayed_stop_nobody(database, settings, job_context, keeper):
    keeper.defer = {f"p{n}@{POST}" for n in range(1, 10)}
    ident = started(database, settings, 18)
    go(database, NOW)
    assert stand(database, ident) == {"delivered": 9, "deferred": 9}
    with database.session() as session:
        assert speeds.all_speeds(session) == []


def test_trying_at_once(database, settings, job_context, keeper):
    keeper.defer = {f"p{n}@{POST}" for n in range(1, 21)}
    started_first = started(database, settings, 20)
    go(database, NOW)
    ident = sent_to_all(database, settings, 20)
    go(database, NOW)
    keeper.defer = set()
    with database.session() as session:
        speeds.try_now(session, IDA, NOW, POST)
    assert turns(database, NOW) == 1
    with clock.at(NOW):
        work(database)
    assert stand(database, ident) == {"delivered": 20}
    assert stand(database, started_first) == {"deferred": 20}
    with database.session() as session, pytest.raises(NotFound):
        speeds.try_now(session, IDA, NOW, POST)


def test_a_faster_domain_is_tried_at_once_by_whoever_waits(database, settings, job_context, keeper):
    set_speed(database, POST, 1)
    ident = started(database, settings, 5)
    go(database, NOW)
    assert stand(database, ident) == {"delivered": 1, "waiting": 4}
    set_speed(database, POST, None)
    turns(database, NOW)
    with clock.at(NOW):
        work(database)
    assert stand(database, ident) == {"delivered": 5}


def test_turns_of_a_stopped_send_are_free_again(database, settings, job_context, keeper):
    """Of two sends the second would have its turns after all of the first."""
    set_speed(database, POST, 1)
    first = started(database, settings, 5)
    go(database, NOW)
    with clock.at(NOW), database.session() as session:
        actions.stop(session, IDA, NOW, session.get_one(Send, first))
    assert turns(database, NOW) == 2
    second = sent_to_all(database, settings, 5)
    go(database, NOW)
    hour = dt.timedelta(hours=1)
    assert [due for due, _ in waiting(database, second)] == [NOW + n * hour for n in range(1, 6)]


def warm(database, first_day=2, growth=50, until=100):
    with clock.at(NOW), database.session() as session:
        begins = NOW.date()
        speeds.save_warm_up(session, IDA, NOW, FROM, WarmUp(begins, first_day, growth, until))


def test_a_new_domain_sends_a_few_more_each_day(database, settings, job_context, keeper):
    """2, 3, 4, 6 …: ten people get it on four days, at the hour at which it began."""
    warm(database)
    ident = started(database, settings, 10)
    go(database, NOW)
    assert stand(database, ident) == {"delivered": 2, "waiting": 8}
    expected = [NOW + DAY] * 3 + [NOW + 2 * DAY] * 4 + [NOW + 3 * DAY]
    assert waiting(database, ident) == [(due, "warm_up") for due in expected]
    for days, gone in ((1, 5), (2, 9), (3, 10)):
        go(database, NOW + days * DAY)
        assert stand(database, ident)["delivered"] == gone
    with database.session() as session:
        left = [day.left_so_far for _, day in sorted(speeds.days(session, FROM).items())]
    assert left == [2, 3, 4, 1]


def test_a_second_send_goes_after_the_first(database, settings, job_context, keeper):
    warm(database)
    started(database, settings, 4)
    go(database, NOW)
    second = sent_to_all(database, settings, 4)
    go(database, NOW)
    expected = [NOW + DAY] + [NOW + 2 * DAY] * 3
    assert [due for due, _ in waiting(database, second)] == expected


def test_the_last_look_says_how_long_it_takes(database, settings, job_context, keeper):
    warm(database)
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 10)
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        found = actions.findings(session, send, settings.public_url, 10)
        said = [check.text for check in found if "is new" in check.text]
        # 2, 3, 4 and one more: the fourth day.
        assert said == [
            f"{FROM} is new and sends a few more each day: the last of 10 people get it on "
            "26 Nov 2026."
        ]
        few = actions.findings(session, send, settings.public_url, 2)
        assert not [check for check in few if "is new" in check.text]


def test_ending_a_warm_up_lets_everybody_go(database, settings, job_context, keeper):
    warm(database)
    ident = started(database, settings, 10)
    go(database, NOW)
    with database.session() as session:
        speeds.end_warm_up(session, IDA, NOW, FROM)
    turns(database, NOW)
    with clock.at(NOW):
        work(database)
    assert stand(database, ident) == {"delivered": 10}


@pytest.mark.parametrize(
    ("domain", "first", "growth", "until", "place"),
    [
        ("no domain", 10, 30, 100, "domain"),
        (FROM, 0, 30, 100, "first_day"),
        (FROM, 10, 31, 100, "growth"),
        (FROM, 10, 30, 10, "until"),
    ],
)
def test_plans_that_cannot_be(database, domain, first, growth, until, place):
    with database.session() as session, pytest.raises(Invalid) as refused:
        plan = WarmUp(NOW.date(), first, growth, until)
        speeds.save_warm_up(session, IDA, NOW, domain, plan)
    assert refused.value.where == place


def test_the_page(client, database):
    sign_in(client)
    with database.session() as session:
        session.add(Sender(name="Farrow Hill", address=f"desk@{FROM}"))
    assert client.get("/mail-speed").status_code == 200
    client.post("/mail-speed", data={"domain": "Post.Example", "per_hour": "1500"})
    client.post("/mail-speed", data={"every_other": "9000"})
    shown = client.get("/mail-speed").text
    assert "post.example" in shown and "1,500" in shown and 'value="9000"' in shown
    refused = client.post("/mail-speed", data={"domain": "post.example", "per_hour": "many"})
    assert refused.status_code == 422 and "“many” is not a whole number." in refused.text
    client.post(
        "/mail-speed/warm-up",
        data={"from_domain": FROM, "first_day": "100", "growth": "50", "until": "1000"},
    )
    shown = client.get("/mail-speed").text
    assert "100 emails on the first day, each day 50% more, up to 1,000" in shown
    for most in ("100", "150", "225", "337", "506", "759", "no limit"):
        assert f">{most}</td>" in shown
    client.post("/mail-speed/post.example/remove")
    client.post(f"/mail-speed/{FROM}/end")
    shown = client.get("/mail-speed").text
    assert "1,500" not in shown and "No limit." in shown


# Two mail servers.


class Server:
    """A mail server that takes what it is given until it breaks."""

    at_once = 2
    can_be_asked = True

    def __init__(self, breaks_after=None, took=()):
        self.breaks_after, self.letters, self._took = breaks_after, [], set(took)

    def hand_over(self, messages, begin=all_may_go):
        for letter in messages:
            if self.breaks_after is not None and len(self.letters) >= self.breaks_after:
                raise GatewayUnavailable("It hung up.")
            for going in begin([letter]):
                self.letters.append(going)
                yield Handed(going.contact_id, "delivered", "250")

    def took(self, ids):
        return {one: one in self._took for one in ids}


class Mail:
    def __init__(self, contact_id):
        self.contact_id = contact_id


@pytest.mark.parametrize("breaks_after", [0, 1, 3, None])
def test_the_other_server_takes_over(breaks_after):
    one, other = Server(breaks_after), Server()
    letters = [Mail(n) for n in range(5)]
    said = list(TwoRoutes(one, other).hand_over(iter(letters)))
    assert [handed.contact_id for handed in said] == [0, 1, 2, 3, 4]
    assert one.letters + other.letters == letters
    assert len(one.letters) == (5 if breaks_after is None else breaks_after)


def test_both_are_down():
    routes = TwoRoutes(Server(2), Server(1))
    said = []
    with pytest.raises(GatewayUnavailable):
        said.extend(routes.hand_over(iter([Mail(n) for n in range(5)])))
    assert [handed.contact_id for handed in said] == [0, 1, 2]


def test_not_taken_is_believed_only_of_both():
    class Silent(Server):
        def took(self, ids):
            return {}

    one, other = Server(took={"a"}), Server(took={"b"})
    assert TwoRoutes(one, other).took(["a", "b", "c"]) == {"a": True, "b": True, "c": False}
    assert TwoRoutes(one, Silent()).took(["a", "c"]) == {"a": True}


@pytest.fixture
def two_servers(tmp_path):
    """Two real mail servers on the loopback: their stores, ports, and the servers."""
    made = []
    for name in ("first", "second"):
        store, port = Store(tmp_path / f"{name}.db"), own_port()
        made.append((store, port, post_office(store, port)))
    yield made
    for _, _, office in made:
        with contextlib.suppress(AssertionError):
            # One that was never started.
            office.stop()


def settings_with(database, two_servers):
    (_, first, _), (_, second, _) = two_servers
    return settings_for(
        database.url,
        MEADOWRUN_SMTP_URL=f"smtp://127.0.0.1:{first}",
        MEADOWRUN_SMTP_URL_2=f"smtp://127.0.0.1:{second}",
    )


@pytest.mark.parametrize(
    ("route", "up", "by"),
    [
        ("first", (True, True), 0),
        ("second", (True, True), 1),
        ("first", (False, True), 1),
        ("second", (True, False), 0),
    ],
)
def test_a_sender_goes_by_its_route_and_by_the_other_when_that_is_down(
    database, two_servers, route, up, by
):
    """What the mail servers themselves have in the end."""
    for (_, _, office), runs in zip(two_servers, up, strict=True):
        if runs:
            office.start()
    settings = settings_with(database, two_servers)
    load_tasks(True)
    jobs.set_context(jobs.Context(database, settings))
    ident = started(database, settings, 3)
    with database.session() as session:
        session.execute(sa.update(Sender).values(route=route))
    go(database, NOW)
    assert stand(database, ident) == {"delivered": 3}
    stored = [len(store.rows("SELECT id FROM mails")) for store, _, _ in two_servers]
    assert stored[by] == 3 and sum(stored) == 3


def test_email_can_be_sent_as_long_as_one_of_them_answers(database, two_servers):
    settings = settings_with(database, two_servers)
    assert "does not answer" in smtp.reachable(settings)
    two_servers[1][2].start()
    assert smtp.reachable(settings) is None
    assert not smtp.look(settings).ok
    assert smtp.look_at_second(settings).ok
