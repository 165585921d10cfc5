"""A message is asked about, sent back and approved; what was written since is never approved
unread."""

import datetime as dt
import re

import sqlalchemy as sa

from meadowrun.messages import actions, queries
from meadowrun.messages.models import Message
from meadowrun.people.queries import dictionary
from tests.conftest import NOW
from tests.store.letters import changed
from tests.store.people import IDA, ready_send
from tests.store.web import user, word, words

JSON = {"Accept": "application/json"}


def shown(reader, letter):
    """The fingerprint of what the review's page shows."""
    return re.search(
        r'name="content" value="([0-9a-f]{64})"', reader.get(f"/messages/{letter}/review").text
    ).group(1)


def asked(web, database, letter):
    web.post(f"/messages/{letter}/review", data={"reviewer": user(database, "hetty")})
    with database.session() as session:
        return session.execute(sa.text("SELECT max(id) FROM reviews")).scalar()


def test_sent_back_with_a_word_then_approved_and_serving_on(web, second, database, letter):
    number = asked(web, database, letter)
    assert "Admin asks Hetty about draft 1" in words(web.get(f"/messages/{letter}/review").text)
    wordless = second.post(f"/messages/{letter}/review/{number}", data={"answer": "back"})
    assert wordless.status_code == 422 and "Say what should be changed" in wordless.text
    second.post(
        f"/messages/{letter}/review/{number}",
        data={"answer": "back", "note": "Shorter, please."},
    )
    assert "Shorter, please." in web.get(f"/messages/{letter}/review").text
    again = second.post(f"/messages/{letter}/review/{number}", data={"answer": "approve"})
    assert again.status_code == 409
    number = asked(web, database, letter)
    agreed = {"answer": "approve", "content": shown(second, letter)}
    assert "Draft 1 is approved" in words(
        second.post(f"/messages/{letter}/review/{number}", data=agreed, follow_redirects=True).text
    )
    drafts = words(web.get(f"/messages/{letter}/drafts").text)
    assert (
        "Sent back by Hetty" in drafts
        and "Approved by Hetty" in drafts
        and "Shorter, please." in drafts
    )
    web.post(
        f"/messages/{letter}/save",
        json={"document": changed(h={"text": "Another heading"}), "version": 1},
    )
    with database.session() as session:
        approved = queries.approved(session, letter)
        assert (
            approved.approved_by == "Hetty"
            and approved.document["lines"][0]["text"] == "Good evening"
        )
    page = words(web.get(f"/messages/{letter}/review").text)
    assert "Another heading" in page, "what changed since is said"


def test_what_was_written_since_is_never_approved_unread(web, second, database, letter):
    """The author writes on while the review's page is open: only what the page showed becomes
    an edition."""
    number = asked(web, database, letter)
    content = shown(second, letter)
    web.post(
        f"/messages/{letter}/save",
        json={"document": changed(h={"text": "Never seen"}), "version": 1},
    )
    page = words(second.get(f"/messages/{letter}/review").text)
    assert "Draft 2 has been written since" in page and shown(second, letter) == content
    assert (
        second.post(
            f"/messages/{letter}/review/{number}",
            data={"answer": "approve", "content": "0" * 64},
        ).status_code
        == 409
    )
    with database.session() as session:
        assert queries.approved(session, letter) is None
    second.post(
        f"/messages/{letter}/review/{number}", data={"answer": "approve", "content": content}
    )
    with database.session() as session:
        approved = queries.approved(session, letter)
        assert approved.document["lines"][0]["text"] == "Good evening"
        # And what was asked about cannot be changed behind it: it is refused even then.
        again = asked(web, database, letter)
        session.execute(
            sa.text(
                "UPDATE drafts SET document = jsonb_set(document, '{subject}', "
                "'\"Swapped\"') WHERE number = 2"
            )
        )
    assert (
        second.post(
            f"/messages/{letter}/review/{again}",
            data={"answer": "approve", "content": shown(second, letter)},
        ).status_code
        == 409
    )


def test_a_newer_draft_goes_only_where_that_was_chosen(web, second, database, letter):
    with database.session() as session:
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        letter, ident = send.message_id, send.id
    assert "draft 1" in words(web.get(f"/sends/{ident}").text)
    number = asked(web, database, letter)
    second.post(
        f"/messages/{letter}/review/{number}",
        data={"answer": "approve", "content": shown(second, letter)},
    )
    with database.session() as session:
        message = session.get_one(Message, letter)
        actions.save(
            session,
            IDA,
            NOW,
            message,
            message.document | {"subject": "Unapproved"},
            message.version,
            dictionary(session),
        )
    page = words(web.get(f"/sends/{ident}").text)
    assert "edition 1, approved by Hetty" in page and "draft 2 is newer and does not go" in page
    with database.session() as session:
        assert queries.to_send(session, session.get_one(Message, letter), "approved")[
            "subject"
        ].startswith("Hello")
    word(web, ident, "state", database, takes="newest")
    assert "draft 2, which nobody has approved" in words(web.get(f"/sends/{ident}").text)
    with database.session() as session:
        assert (
            queries.to_send(session, session.get_one(Message, letter), "newest")["subject"]
            == "Unapproved"
        )
    # Where the house asks for approval nothing else can be chosen.
    web.post(
        "/messages/house", data={"greetings": "0:00 Good night", "accent": "#112233", "review": "1"}
    )
    assert "edition 1, approved by Hetty" in words(web.get(f"/sends/{ident}").text)
    with database.session() as session:
        found = actions.edition_to_send(
            session, IDA, NOW, session.get_one(Message, letter), "http://x", "newest"
        )
        assert (found.number, found.approved_by) == (1, "Hetty")


def test_what_was_sent_long_before_is_approved_when_it_is_approved(database, letter):
    with database.session() as session:
        message, later = session.get_one(Message, letter), NOW + dt.timedelta(days=400)
        sent = actions.make_edition(session, IDA, NOW, message, "http://x")
        assert (sent.at, sent.approved_at) == (NOW, None)
        again = actions.make_edition(session, IDA, later, message, "http://x", approved_by="Hetty")
        assert (again.id, again.at, again.approved_at) == (sent.id, NOW, later)


def test_only_who_was_asked_answers_and_nobody_asks_themselves(web, second, database, letter):
    own = web.post(f"/messages/{letter}/review", data={"reviewer": user(database, "admin")})
    assert own.status_code == 422 and "another person’s review" in own.text
    number = asked(web, database, letter)
    other = web.post(
        f"/messages/{letter}/review/{number}", data={"answer": "approve"}, headers=JSON
    )
    assert other.status_code == 422 and "Somebody else was asked" in other.json["error"]
    assert (
        second.post(
            f"/messages/{letter + 1}/review/{number}", data={"answer": "approve"}
        ).status_code
        == 404
    )


def test_comments_stand_at_their_line_until_done(web, second, letter):
    assert (
        second.post(
            f"/messages/{letter}/comments", json={"line": "h", "text": "  "}, headers=JSON
        ).status_code
        == 422
    )
    made = second.post(
        f"/messages/{letter}/comments", json={"line": "h", "text": "Say which evening"}
    ).json["id"]
    assert (
        "Say which evening" in web.get(f"/messages/{letter}").text
        and "Say which evening" in web.get(f"/messages/{letter}/review").text
    )
    web.post(f"/messages/{letter}/comments/{made}/done")
    assert "Say which evening" not in web.get(f"/messages/{letter}").text
    assert web.post(f"/messages/{letter + 1}/comments/{made}/done").status_code == 404


def test_drafts_side_by_side_mark_what_differs(web, letter):
    web.post(
        f"/messages/{letter}/save",
        json={"document": changed(h={"text": "Come early"}), "version": 1},
    )
    page = web.get(f"/messages/{letter}/compare").text
    assert "heading of line 1 says “Come early”" in words(page) and "mark=h" in page
    assert ".ln-h{" in web.get(f"/messages/{letter}/drafts/1.html?mark=h").text
    assert "evil" not in web.get(f"/messages/{letter}/drafts/1.html?mark=h{{}}evil").text
