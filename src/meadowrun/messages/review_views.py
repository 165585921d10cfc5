"""Review: somebody is asked to look, says something about a line, approves or sends back; drafts
side by side."""

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.content.differences import differences
from meadowrun.core.content.lines import places, walk
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.messages import actions, keeping, page, queries
from meadowrun.messages.models import Comment, Draft, Review
from meadowrun.shell.accounts import people_who
from meadowrun.shell.request import Answer, actor, body, db, done, integer, needs, now, settings

pages = flask.Blueprint("review", __name__)


@pages.get("/messages/<int:ident>/review")
def show(ident: int) -> Answer:
    return _page(ident)


def _page(ident: int, problem: MeadowrunError | None = None) -> str:
    message = queries.message(db(), ident)
    approved = queries.approved(db(), ident)
    asked = next((r for r in queries.reviews(db(), ident) if r.state == "asked"), None)
    draft = db().get(Draft, (ident, asked.draft)) if asked else None
    return flask.render_template(
        "messages/review.html",
        message=message,
        problem=problem,
        reviews=queries.reviews(db(), ident),
        approved=approved,
        people=[u for u in people_who(db(), "approver") if u.id != actor().user_id],
        house=queries.house(db()),
        comments=queries.comments(db(), ident),
        places=places(message.document["lines"]),
        me=actor().user_id,
        changes=differences(approved.document, message.document) if approved else [],
        names={u.id: u.name for u in people_who(db(), "viewer")},
        asked=asked,
        reviewed=draft.document if draft else message.document,
    )


@pages.post("/messages/<int:ident>/review")
@needs("author")
def ask(ident: int) -> Answer:
    message = queries.message(db(), ident)
    try:
        actions.ask_review(
            db(), actor(), now(), message, integer(flask.request.form.get("reviewer"), "reviewer")
        )
    except MeadowrunError as problem:
        db().rollback()
        return _page(ident, problem), problem.status
    return done(
        "review.show",
        Wording(
            "Draft %(draft)s waits for an answer; what you write now becomes draft %(value)s.",
            draft=message.draft,
            value=message.draft + 1,
        ),
        ident=ident,
    )


@pages.post("/messages/<int:ident>/review/<int:number>")
@needs("approver")
def answer(ident: int, number: int) -> Answer:
    message = queries.message(db(), ident)
    review = db().get(Review, number)
    if review is None or review.message_id != ident:
        flask.abort(404)
    if review.reviewer_id != actor().user_id:
        raise Invalid("Somebody else was asked; only they can answer.", "review")
    form = flask.request.form
    try:
        actions.answer_review(
            db(),
            actor(),
            now(),
            message,
            review,
            form.get("answer") == "approve",
            form.get("note", ""),
            settings().public_url,
            form.get("content", ""),
        )
    except MeadowrunError as problem:
        db().rollback()
        return _page(ident, problem), problem.status
    return done(
        "review.show",
        Wording("Draft %(draft)s is approved: sends give people this now.", draft=review.draft)
        if review.state == "approved"
        else "Sent back, with your words.",
        ident=ident,
    )


@pages.post("/messages/<int:ident>/comments")
@needs("viewer")
def comment(ident: int) -> Answer:
    data = body() if flask.request.is_json else flask.request.form
    made = keeping.comment(
        db(),
        actor(),
        now(),
        queries.message(db(), ident),
        str(data.get("line", "")),
        str(data.get("text", "")),
    )
    if flask.request.is_json:
        return flask.jsonify(id=made.id)
    return done("review.show", ident=ident)


@pages.post("/messages/<int:ident>/comments/<int:number>/done")
@needs("author")
def comment_done(ident: int, number: int) -> Answer:
    found = db().get(Comment, number)
    if found is None or found.message_id != ident:
        flask.abort(404)
    found.done_by = actor().name
    return done("review.show", ident=ident)


@pages.get("/messages/<int:ident>/compare")
def compare(ident: int) -> Answer:
    """Two drafts side by side, with what differs in words."""
    message = queries.message(db(), ident)
    drafts = {d.number: d for d in queries.drafts(db(), ident)}
    chosen = [
        int(n) for n in flask.request.args.getlist("draft") if is_whole(n) and int(n) in drafts
    ][:2]
    if len(chosen) < 2:
        newest = max(drafts, default=1)
        chosen = [max(1, newest - 1), newest]
    old, new = sorted(chosen)
    before, after = (
        {line["id"]: line for line in walk(drafts[n].document["lines"])} for n in (old, new)
    )
    marked = "-".join(i for i in before.keys() | after.keys() if before.get(i) != after.get(i))
    return flask.render_template(
        "messages/compare.html",
        message=message,
        marked=marked,
        drafts=list(drafts.values()),
        old=drafts[old],
        new=drafts[new],
        said=differences(drafts[old].document, drafts[new].document),
        name_of=page.name_of,
    )
