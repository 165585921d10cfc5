"""Pages of likely duplicates: the pairs, both records side by side, merging and parting."""

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core import wording
from meadowrun.people import company_queries, duplicates, queries
from meadowrun.people.asked import words
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, not_done, now

pages = flask.Blueprint("duplicates", __name__)


@pages.get("/people/duplicates")
@comes_later("Looking for people who are there twice")
def table() -> Answer:
    pairs, as_of = duplicates.candidates(db(), now())
    return flask.render_template(
        "people/duplicates.html", pairs=pairs, as_of=as_of, merges=duplicates.recent(db(), now())
    )


@pages.get("/people/duplicates/<int:first>/<int:second>")
def pair(first: int, second: int) -> Answer:
    """Both records side by side; what differs is chosen before they become one."""
    if first == second:
        raise Invalid("Choose two different contacts.")
    a, b = queries.contact(db(), first), queries.contact(db(), second)
    specs = words().fields
    labels = {ref: spec.label for ref, spec in specs.items()} | {
        "company_id": "company",
        "email": "email address",
    }
    companies = company_queries.names(db(), [a.company_id or 0, b.company_id or 0])

    def shown(name: str, value: object) -> str:
        if value in (None, "", []):
            return ""
        if name == "company_id" and isinstance(value, int):
            return companies.get(value, "")
        return wording.held(specs[name].type if name in specs else "text", value)

    rows = [
        (name, labels.get(name, name), shown(name, x), shown(name, y))
        for name, x, y in duplicates.preview(a, b)
    ]
    history = {c.id: queries.history_size(db(), c.id) for c in (a, b)}
    said = [queries.consent_of(db(), c.id, every=True) for c in (a, b)]
    consent = [(x, y) for x, y in zip(*said, strict=True) if (x.agreed, y.agreed) != (None, None)]
    return flask.render_template(
        "people/duplicate.html", a=a, b=b, rows=rows, history=history, consent=consent
    )


@pages.post("/people/duplicates/<int:first>/<int:second>")
@needs("author")
def merge(first: int, second: int) -> Answer:
    form = flask.request.form
    kept = integer(form.get("keep"), "keep")
    if kept not in (first, second):
        raise Invalid("Choose which record stays.", "keep")
    gone = second if kept == first else first
    chosen = {name for name in form if form[name] == str(gone)} - {"keep"}
    duplicates.merge(db(), actor(), now(), kept, gone, chosen)
    return done(
        "people.show",
        "They are one record now. It can be undone here for 30 days.",
        ident=kept,
    )


@pages.post("/people/duplicates/undo/<int:ident>")
@needs("author")
def undo(ident: int) -> Answer:
    try:
        parted = duplicates.undo(db(), actor(), now(), ident)
    except MeadowrunError as problem:
        return not_done(problem, "duplicates.table")
    return done(
        "people.show",
        "They are two records again, each with its own history.",
        ident=parted.gone_id,
    )
