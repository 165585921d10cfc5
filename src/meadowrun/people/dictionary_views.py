"""Pages of the dictionary: one own field, one kind of event."""

import flask

from meadowrun.base.db import existing
from meadowrun.base.errors import MeadowrunError
from meadowrun.core.audience.fields import TYPE_WORDS
from meadowrun.core.language import Wording
from meadowrun.core.wording import count_of
from meadowrun.people import aside, dictionary, queries
from meadowrun.people.models import EventKind
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, not_done

pages = flask.Blueprint("dictionary", __name__)


@pages.get("/people/fields/<int:ident>")
@comes_later("Counting what this field holds")
def field(ident: int) -> Answer:
    return _field(ident, None)


def _field(ident: int, problem: MeadowrunError | None) -> str:
    found = dictionary.get(db(), ident)
    same = [f for f in queries.fields(db(), found.owner) if f.id != ident and f.type == found.type]
    return flask.render_template(
        "people/field.html",
        given=flask.request.form,
        entry=dictionary.entry(db(), found),
        field=found,
        same=same,
        type_words=TYPE_WORDS,
        problem=problem,
    )


@pages.post("/people/fields/<int:ident>/<any(change, retire, take_back, merge):verb>")
@needs("author")
def change_field(ident: int, verb: str) -> Answer:
    form, found = flask.request.form, dictionary.get(db(), ident)
    try:
        if verb == "change":
            dictionary.change(
                db(),
                actor(),
                found,
                form.get("label", ""),
                form.get("meaning", ""),
                form.get("options", "").replace("\n", ",").split(","),
            )
        elif verb == "merge":
            kept = dictionary.get(db(), integer(form.get("into"), "into"))
            moved = dictionary.merge(db(), actor(), found, kept, form.get("wins", ""))
            return done(
                "dictionary.field",
                Wording(
                    "Merged: %(moved)s moved here, and the lines that used the other.",
                    moved=count_of(moved, "value"),
                ),
                ident=kept.id,
            )
        else:
            dictionary.retire(db(), actor(), found, verb == "retire")
    except MeadowrunError as problem:
        db().rollback()
        return _field(ident, problem), problem.status
    return done("dictionary.field", "Saved.", ident=ident)


@pages.get("/people/events/<int:ident>")
def event_kind(ident: int) -> Answer:
    return _kind(ident, None)


def _kind(ident: int, problem: MeadowrunError | None) -> str:
    found = existing(db(), EventKind, ident, "kind of event")
    return flask.render_template(
        "people/event_kind.html",
        kind=found,
        problem=problem,
        waiting=aside.waiting(db(), found),
        **dictionary.kind_facts(db(), found),
    )


@pages.post("/people/events/<int:ident>/details")
@needs("author")
def fix_detail(ident: int) -> Answer:
    """Puts a detail that did not fit back in its events, as somebody typed it; or leaves it out."""
    form, kind = flask.request.form, existing(db(), EventKind, ident, "kind of event")
    detail, value = form.get("detail", ""), form.get("value", "")
    try:
        if form.get("out"):
            said = Wording(
                "Left out: %(detail)s. The events stay without it.",
                detail=aside.leave_out(db(), actor(), kind, detail, value),
            )
        else:
            put_back = aside.put_back(db(), actor(), kind, detail, value, form.get("given", ""))
            said = Wording("Put back in %(events)s.", events=count_of(put_back, "event"))
    except MeadowrunError as problem:
        db().rollback()
        return _kind(ident, problem), problem.status
    return done("dictionary.event_kind", said, ident=ident)


@pages.post("/people/events/<int:ident>/merge")
@needs("author")
def merge_kind(ident: int) -> Answer:
    """Makes one kind of event of this one and another, which stays."""
    gone = existing(db(), EventKind, ident, "kind of event")
    try:
        kept = existing(
            db(), EventKind, integer(flask.request.form.get("into"), "into"), "kind of event"
        )
        moved = dictionary.merge_kinds(db(), actor(), gone, kept)
    except MeadowrunError as problem:
        return not_done(problem, "dictionary.event_kind", ident=ident)
    return done(
        "dictionary.event_kind",
        Wording(
            "Merged: %(moved)s moved here, and everything that used the other.",
            moved=count_of(moved, "event"),
        ),
        ident=kept.id,
    )


@pages.post("/people/events/<int:ident>")
@needs("author")
def change_kind(ident: int) -> Answer:
    form = flask.request.form
    try:
        dictionary.change_kind(
            db(),
            actor(),
            existing(db(), EventKind, ident, "kind of event"),
            form.get("did", ""),
            form.get("do", ""),
            form.get("meaning", ""),
            form.get("retired") == "yes",
            form.get("by_website") == "yes",
        )
    except MeadowrunError as problem:
        db().rollback()
        return _kind(ident, problem), problem.status
    return done("dictionary.event_kind", "Saved.", ident=ident)
