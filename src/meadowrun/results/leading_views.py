"""What the numbers of a result lead on to."""

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.core.wording import people as people_words
from meadowrun.people.asked import words
from meadowrun.people.kinds import event_kind
from meadowrun.results import leading_on, queries
from meadowrun.sends.models import Send
from meadowrun.sends.queries import send as get_send
from meadowrun.shell.request import Answer, actor, db, done, needs, not_done, now, zone

pages = flask.Blueprint("leading", __name__, url_prefix="/results/<int:ident>")


@pages.post("/people/<what>")
@needs("author")
def people(ident: int, what: str) -> Answer:
    """Writes to the people behind a number, or keeps them as a list, as a segment or by a tag."""
    send = _taken(ident, what)
    form = flask.request.form
    deed, name = form.get("do", ""), form.get("name", "")
    try:
        if deed == "segment":
            segment = leading_on.keep_segment(db(), actor(), now(), send, what, words(), name)
            return done("segments.edit", ident=segment.id)
        if deed == "tag":
            given = leading_on.tag(db(), actor(), now(), send, what, form.get("tag", ""))
            said = Wording("%(people)s got the tag.", people=people_words(given))
            return done("results.behind", said, ident=ident, what=what)
        kept = leading_on.keep_list(db(), actor(), now(), send, what, name)
    except MeadowrunError as problem:
        db().rollback()
        return not_done(problem, "results.behind", ident=ident, what=what)
    if deed == "write":
        return done("beginning.new", people=f"list:{kept.id}")
    return done("keeping.list_members", ident=kept.id)


@pages.post("/follow-up/<what>")
@needs("author")
def follow_up(ident: int, what: str) -> Answer:
    """A second send to those who did not react."""
    send = _taken(ident, what)
    try:
        made = leading_on.follow_up(db(), actor(), now(), send, what, words(), zone())
    except MeadowrunError as problem:
        db().rollback()
        return not_done(problem, "results.show", ident=ident)
    return done("sends.show", _followed(send, what), ident=made.id)


def _followed(send: Send, what: str) -> str:
    """Whom a follow-up goes to, and who is left out of it."""
    kind = event_kind(db(), send.success_event)
    missed = Wording("open it") if what == "not_opened" else Wording("click in it")
    if kind is None:
        return Wording(
            "This is a new send of the same message to the people who did not %(missed)s. Anybody "
            "who does so before it goes out is left out.",
            missed=missed,
        )
    return Wording(
        "This is a new send of the same message to the people who did not %(missed)s and did not "
        "%(do)s either. Anybody who does so before it goes out is left out.",
        missed=missed,
        do=kind.do,
    )


def _taken(ident: int, what: str) -> Send:
    send = get_send(db(), ident)
    if send.taken_at is None or queries.people_sql(what) is None:
        flask.abort(404)
    return send
