"""The one box finds every page, action and thing by the words that people use for it."""

import pytest

from meadowrun.people import keeping
from meadowrun.people.models import Company
from tests.conftest import NOW
from tests.store.people import IDA
from tests.store.web import sign_in

#: Addresses without a page of their own: parts of others, answers to programs, files.
PARTS = {
    "calendar.about",
    "calendar.ask",
    "files.pictures",
    "instructions.rhythm",
    "shell.clock_now",
    "shell.health",
    "sign_in.begin_second_step",
    "sign_in.code",
    "sign_in.form",
    "static",
}


def found(web, words):
    return web.post("/find", json={"q": words}).json["found"]


def deeds(web, words):
    return [one["name"] for one in found(web, words) if one["kind"] == "open"]


def test_every_page_can_be_found(web):
    app = web.application
    known = {way.endpoint for one in app.config["FEATURES"] for way in one.feature.does}
    pages = {
        rule.endpoint
        for rule in app.url_map.iter_rules()
        if "GET" in rule.methods
        and not rule.arguments
        and not rule.rule.startswith(("/api/", "/site", "/demo"))
    }
    assert pages - PARTS - known == set()
    assert known <= pages


@pytest.mark.parametrize(
    ("words", "first"),
    [
        ("colleagues", "Colleagues"),
        ("users", "Colleagues"),
        ("unsubscribed", "Suppressed addresses"),
        ("groupings", "Groupings"),
        ("groups", "Lists"),
        ("new message", "New message"),
        ("sms", "New message"),
        ("newsletter", "New send"),
        ("upload csv", "Import people from a file"),
        ("frequency", "Message limits"),
        ("automation", "Journeys"),
        ("reports", "Results"),
        ("dkim", "Mail domains and keys"),
        ("gdpr", "How long data is kept"),
        ("brand", "House style"),
        ("audit", "Who changed what"),
        ("holidays", "Quiet hours and holidays"),
        ("overlap", "Compare people"),
        ("merge", "Duplicates"),
        ("postal address", "Is everything set up?"),
        ("recurring", "New send"),
        ("tutorial", "Sample campaign"),
        ("company", "Companies"),
        ("new list", "Lists"),
        ("list", "Lists"),
        ("who opened", "Results"),
        ("open rate", "Results"),
        ("click rates", "Results"),
        ("the unsubscribe page", "Suppressed addresses"),
        ("preference page", "Senders and topics"),
        ("double opt-in", "Senders and topics"),
        ("blacklist", "Suppressed addresses"),
        ("test email", "Messages"),
        ("template", "Messages"),
        ("webhook", "Journeys"),
        ("sign out", "Your sign-in and notifications"),
        ("2fa", "Your sign-in and notifications"),
        ("how do I export contacts", "People"),
        ("stop all", "Rules for everything you send"),
        ("coupon", "Feeds and tables"),
    ],
)
def test_pages_are_found_by_the_words_of_marketers(web, words, first):
    assert deeds(web, words)[0] == first


def test_what_only_some_words_fit_comes_behind_what_is_called_so(web, database):
    with database.session() as session:
        keeping.make_list(session, IDA, NOW, "Quiet guests", "by hand", [])
    assert [one["name"] for one in found(web, "quiet guests")] == [
        "Quiet guests",
        "Quiet hours and holidays",
    ]


def test_what_is_done_most_is_offered_before_anything_is_typed(web):
    offered = deeds(web, "")
    assert "New message" in offered and "New send" in offered and len(offered) <= 8
    assert "How long data is kept" not in offered


def test_what_somebody_may_not_see_is_not_offered(client):
    sign_in(client, "viewer")
    assert "New message" not in deeds(client, "new message") and deeds(client, "audit") == []
    assert deeds(client, "results") == ["Results"]


def test_lists_and_companies_are_found_by_name(web, database):
    with database.session() as session:
        keeping.make_list(session, IDA, NOW, "Open night guests", "by hand", [])
        name = "Tarn Open School"
        session.add(Company(name=name, name_key=name.lower(), created_at=NOW))
    names = {(one["kind"], one["name"]) for one in found(web, "open")}
    assert {("list", "Open night guests"), ("company", "Tarn Open School")} <= names
