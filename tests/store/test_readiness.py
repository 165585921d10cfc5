"""Whether everything is set up: keys of mail domains, what a real name server says of them, and
emails that another program finds truly signed."""

import datetime as dt

import dkim as other
import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.base.manifest import Probe, Tried, probes
from meadowrun.core.language import Problem
from meadowrun.gateways.dns import NoAnswer, Resolver
from meadowrun.messages import mail_keys
from meadowrun.messages.mail_keys import MailKey
from meadowrun.messages.senders import Sender
from meadowrun.outgoing import allowance
from meadowrun.outgoing.models import SendingRules
from meadowrun.readiness import looking
from meadowrun.readiness.models import Probed
from meadowrun.sends.models import Send
from meadowrun.village.names import name_server
from meadowrun.village.post import post_office
from meadowrun.village.store import Store
from tests.conftest import NOW, settings_for
from tests.ports import own_port
from tests.store.people import IDA, many, ready_send
from tests.store.sending import run_all, segment, started
from tests.store.web import sign_in

DOMAIN = "farrowhill.example"
LONDON = "Europe/London"


@pytest.fixture
def village(tmp_path):
    """A name server and a mail server on the loopback: their store, and the settings that name
    them."""
    store = Store(tmp_path / "village.db")
    names, post = own_port(), own_port()
    answers, office = name_server(store, names), post_office(store, post)
    answers.start_thread()
    office.start()
    yield (
        store,
        {"MEADOWRUN_DNS": f"127.0.0.1:{names}", "MEADOWRUN_SMTP_URL": f"smtp://127.0.0.1:{post}"},
    )
    office.stop()
    answers.stop()


@pytest.fixture
def sender(database):
    with database.session() as session:
        session.add(Sender(name="Farrow Hill", address=f"desk@{DOMAIN}"))


def made(database, settings, now=NOW):
    with database.session() as session:
        return [one.id for one in mail_keys.make(session, IDA, now, settings, DOMAIN)]


def used(database, *idents):
    with database.session() as session:
        for ident in idents:
            mail_keys.use(session, IDA, NOW, ident)


def states(database):
    with database.session() as session:
        rows = session.scalars(sa.select(MailKey).order_by(MailKey.id))
        return [(row.selector, row.state) for row in rows]


def test_keys_are_made_used_and_changed(database, settings):
    first = made(database, settings)
    assert states(database) == [("mr20261123r", "new"), ("mr20261123e", "new")]
    with database.session() as session, pytest.raises(Conflict, match="new keys already"):
        mail_keys.make(session, IDA, NOW, settings, DOMAIN)
    used(database, *first)
    second = made(database, settings)
    assert states(database)[2:] == [("mr20261123r2", "new"), ("mr20261123e2", "new")]
    used(database, second[0])
    # The other algorithm goes on signing with its old key.
    assert [state for _, state in states(database)] == ["retired", "signing", "signing", "new"]
    with database.session() as session, pytest.raises(Conflict, match="Use another key first"):
        mail_keys.delete(session, IDA, NOW, first[1])
    with database.session() as session:
        mail_keys.delete(session, IDA, NOW, first[0])
    assert [state for _, state in states(database)] == ["signing", "signing", "new"]


@pytest.mark.parametrize("domain", ["", "no domain", "a@b.example", "-.example"])
def test_a_domain_that_is_none(database, settings, domain):
    with database.session() as session, pytest.raises(Invalid, match="not a domain"):
        mail_keys.make(session, IDA, NOW, settings, domain)


def test_the_private_part_is_encrypted(database, settings):
    made(database, settings)
    with database.session() as session:
        kept = session.scalars(sa.select(MailKey.private_key)).all()
    assert not any("PRIVATE KEY" in one or "MII" in one[:8] for one in kept)


def test_the_name_server_is_asked(village):
    store, where = village
    settings = settings_for("postgresql://x", **where)
    record = "v=DKIM1; k=rsa; p=" + "A" * 392
    store.publish(f"one._domainkey.{DOMAIN}", "TXT", record)
    store.publish(f"mail.{DOMAIN}", "MX", f"mx.{DOMAIN}")
    asked = Resolver(settings)
    assert asked.texts(f"one._domainkey.{DOMAIN}") == [record]
    assert asked.texts(f"One._DomainKey.{DOMAIN}") == [record]
    assert asked.mail_servers(f"mail.{DOMAIN}") == [f"mx.{DOMAIN}"]
    # Of the name there is something, but nothing of that kind; and nothing of the name at all.
    assert asked.texts(f"mail.{DOMAIN}") == []
    assert asked.texts("nothing.example") == []


def test_a_name_server_that_is_not_there():
    settings = settings_for("postgresql://x", MEADOWRUN_DNS=f"127.0.0.1:{own_port()}")
    with pytest.raises(NoAnswer, match=r"did not answer about farrowhill\.example"):
        Resolver(settings).texts(DOMAIN)


def looked(database, settings):
    """key of a probe → whether it was found set up, and what was said."""
    with database.session() as session:
        found = looking.look(session, settings, NOW)
    return {one.probe.key: (one.found.ok, one.found.said) for one in found}


def test_what_is_missing_is_found_and_then_set_up(database, village, sender):
    store, where = village
    settings = settings_for(database.url, **where)
    found = looked(database, settings)
    assert found["gateway:email"][0] is True
    assert "not encrypted" in found["gateway:email"][1]
    missing = ("mx:mail.example", "spf:mail.example", f"dkim:{DOMAIN}", f"dmarc:{DOMAIN}")
    assert [found[key][0] for key in missing] == [False] * 4
    assert found[f"dkim:{DOMAIN}"][1] == "emails are not signed"
    keys = made(database, settings)
    used(database, *keys)
    assert "does not publish the key" in looked(database, settings)[f"dkim:{DOMAIN}"][1]
    store.publish("mail.example", "MX", "mail.example")
    store.publish("mail.example", "TXT", "v=spf1 ip4:127.0.0.1 -all")
    store.publish(f"_dmarc.{DOMAIN}", "TXT", "v=DMARC1; p=reject")
    with database.session() as session:
        for key in mail_keys.keys_of(session):
            store.publish(key.host, "TXT", key.record)
    found = looked(database, settings)
    assert [found[key][0] for key in missing] == [True] * 4
    assert found[f"dkim:{DOMAIN}"][1] == "signed with mr20261123e, mr20261123r, as published"
    # Somebody publishes a second SPF record, and another key.
    store.publish("mail.example", "TXT", "v=spf1 -all")
    store.write("UPDATE records SET value = 'v=DKIM1; p=AAAA' WHERE name LIKE 'mr20261123r.%'")
    found = looked(database, settings)
    assert found["spf:mail.example"] == (False, "two SPF records are published; only one may be")
    assert "publishes another key" in found[f"dkim:{DOMAIN}"][1]


def test_another_secret_keeps_no_email_from_leaving(database, village, sender):
    """What was encrypted by the old one cannot be read: emails leave unsigned, and it is said."""
    _, where = village
    used(database, *made(database, settings_for(database.url, **where)))
    other_secret = settings_for(database.url, **where | {"MEADOWRUN_SECRET": "t" * 12 + "u" * 28})
    found = looked(database, other_secret)
    assert "cannot be read: the secret changed" in found[f"dkim:{DOMAIN}"][1]
    with database.session() as session:
        mail = b"From: desk@farrowhill.example\r\n\r\nHello\r\n"
        signer = mail_keys.signer_of(session, other_secret)
        assert signer.signed(f"desk@{DOMAIN}", mail) == mail


def test_a_policy_of_the_domain_above_counts(database, village):
    store, where = village
    settings = settings_for(database.url, **where)
    with database.session() as session:
        session.add(Sender(name="News", address=f"news@letters.{DOMAIN}"))
    assert looked(database, settings)[f"dmarc:letters.{DOMAIN}"][0] is False
    store.publish(f"_dmarc.{DOMAIN}", "TXT", "v=DMARC1; p=none")
    assert looked(database, settings)[f"dmarc:letters.{DOMAIN}"] == (True, "v=DMARC1; p=none")


def test_a_mail_server_that_is_not_there(database, sender):
    url = f"smtp://127.0.0.1:{own_port()}"
    found = looked(
        database,
        settings_for(database.url, MEADOWRUN_SMTP_URL=url, MEADOWRUN_DNS=f"127.0.0.1:{own_port()}"),
    )
    assert found["gateway:email"][0] is False
    assert "does not answer" in found["gateway:email"][1]
    assert "The name server did not answer" in found["spf:mail.example"][1]


@pytest.mark.parametrize("address", ["1 Market Street, Exampleton", ""])
def test_a_postal_address_is_needed(database, address):
    """By those that are tried; the rest does not answer here."""
    with clock.at(NOW), database.session() as session:
        settings = settings_for(database.url, MEADOWRUN_POSTAL_ADDRESS=address)
        found = {one.probe.key: one for one in looking.look(session, settings, NOW)}["postal"]
        assert (found.found.ok, found.missing) == (bool(address), not address)
        assert found.found.said == (address or "it is not known")


def test_one_that_fails_keeps_none_of_the_others_from_being_tried(database, settings, monkeypatch):
    def probe(key, run):
        return Probe(key=key, area="Test", name=key, fix="mend it", run=run)

    def broken():
        raise RuntimeError("no \0 luck")

    def refused():
        raise Problem("It is closed.")

    asked = [
        probe("a", broken),
        probe("b", lambda: Tried(True, "fine")),
        probe("c", refused),
    ]
    monkeypatch.setattr(looking, "probes", lambda session, settings: asked)
    assert looked(database, settings) == {
        "a": (False, "RuntimeError: no  luck"),
        "b": (True, "fine"),
        "c": (False, "It is closed."),
    }
    asked.pop()
    looked(database, settings)
    with database.session() as session:
        assert set(session.scalars(sa.select(Probed.key))) == {"a", "b"}


def test_every_probe_has_a_key_of_its_own_and_says_how_it_is_set_up(database, settings, sender):
    with database.session() as session:
        found = probes(session, settings)
    assert len({one.key for one in found}) == len(found) >= 6
    assert all(one.name and one.fix and one.area for one in found)


def test_what_leaves_is_truly_signed(database, job_context, village):
    """Each email of a send, fetched from the mail server, as another program reads it; the records
    are those that the name server answers."""
    store, where = village
    settings = settings_for(database.url, **where)
    jobs.set_context(jobs.Context(database, settings))
    ident = started(database, settings, 30)
    with database.session() as session:
        send = session.get_one(Send, ident)
        domain = session.get_one(Sender, send.sender_id).address.rpartition("@")[2]
        keys = [one.id for one in mail_keys.make(session, IDA, NOW, settings, domain)]
    used(database, *keys)
    with database.session() as session:
        for key in mail_keys.keys_of(session):
            store.publish(key.host, "TXT", key.record)
    run_all(database, ident)
    mails = [row["raw"] for row in store.rows("SELECT raw FROM mails")]
    assert len(mails) == 30
    asked = Resolver(settings)
    for raw in mails:
        for place in range(2):
            assert other.DKIM(raw).verify(
                place,
                dnsfunc=lambda name, timeout=5: asked.texts(name.decode().rstrip("."))[0].encode(),
            )


def test_the_pages(client, database, settings, sender, still):
    sign_in(client)
    page = client.get("/readiness").text
    assert "not tried yet" in page
    assert client.post("/readiness/try").status_code == 303
    page = client.get("/readiness").text
    assert "missing" in page
    assert "MEADOWRUN_SMTP_URL" in page
    page = client.get("/mail-domains").text
    assert "Emails from farrowhill.example are not signed" in page
    client.post("/mail-domains/make", data={"domain": DOMAIN})
    page = client.get("/mail-domains").text
    assert "mr20261123e._domainkey.farrowhill.example" in page
    assert "v=DKIM1; k=rsa; p=MII" in page
    with database.session() as session:
        first = session.scalars(sa.select(MailKey.id).order_by(MailKey.id)).first()
    client.post(f"/mail-domains/{first}/use")
    assert "signs emails" in client.get("/mail-domains").text
    answer = client.post(f"/mail-domains/{first}/delete", follow_redirects=True)
    assert "Use another key first" in answer.text


@pytest.mark.parametrize(
    ("per", "used_before", "left"),
    [("day", dt.timedelta(hours=1), 7), ("day", dt.timedelta(hours=15), 10)]
    + [("month", dt.timedelta(days=20), 7), ("month", dt.timedelta(days=25), 10)],
)
def test_the_allowance_of_a_day_and_of_a_month(
    client, database, settings, job_context, keeper, per, used_before, left
):
    """Three messages left before NOW, 14:00 on 23 November: an hour or 15 hours, 20 or 25 days."""
    ident = started(database, settings, 3)
    run_all(database, ident)
    with clock.at(NOW), database.session() as session:
        session.execute(sa.text("UPDATE deliveries SET at = :at"), {"at": NOW - used_before})
        allowance.save(session, IDA, NOW, 10, per)
        found = allowance.allowance(session, NOW, dt.UTC)
        assert (found.most, found.used, found.left) == (10, 10 - left, left)


def test_a_send_beyond_the_allowance_is_pointed_out(client, database, job_context, still):
    with database.session() as session:
        many(session, NOW, 5)
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        ident = send.id
    sign_in(client)
    assert "may still leave" not in client.get(f"/sends/{ident}").text
    client.post("/sending/allowance", data={"most": "4", "per": "day"})
    page = " ".join(client.get(f"/sends/{ident}").text.split())
    assert "It takes 5 messages, and only 4 of 4 may still leave this day." in page
    client.post("/sending/allowance", data={"most": "0", "per": "day"})
    with database.session() as session:
        assert session.get_one(SendingRules, 1).allowance == 4
    client.post("/sending/allowance", data={"most": "", "per": "day"})
    with database.session() as session:
        assert session.get_one(SendingRules, 1).allowance is None
