"""Pages about people: the table, one contact, companies, fields, lists, suppressions, pictures."""

import datetime as dt
import json

import flask

from meadowrun.base import audit
from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.audience.fields import TYPE_WORDS
from meadowrun.core.channels import USUAL
from meadowrun.core.language import Wording
from meadowrun.core.timing.zones import zone_names
from meadowrun.core.wording import count_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.people import (
    actions,
    columns,
    company_queries,
    duplicates,
    people_csv,
    queries,
    wholly,
)
from meadowrun.people.asked import words
from meadowrun.people.kinds import event_kinds
from meadowrun.people.models import Company, Contact
from meadowrun.people.reader_language import language_names
from meadowrun.people.tagged import asked as asked_tag
from meadowrun.people.timeline import timeline
from meadowrun.shell import hidden
from meadowrun.shell.request import (
    Answer,
    actor,
    csv_file,
    database,
    db,
    done,
    needs,
    now,
    settings,
)

pages = flask.Blueprint("people", __name__)
PAGE = 50


@pages.get("/people")
def table() -> Answer:
    arguments = flask.request.args
    search, sort = hidden.shown(arguments.get("search", "")), arguments.get("sort", "name")
    sort = sort if sort in queries.SORTS else "name"
    tag, tagged, under = asked_tag()
    page = queries.contacts_page(
        db(), search, sort, hidden.shown(arguments.get("at", "")), under if tag else None
    )
    total, more = queries.count_contacts(db(), search, tags=under if tag else None)
    return flask.render_template(
        "people/table.html",
        page=page,
        search=search,
        sort=sort,
        total=total,
        more=more,
        tag=tag,
        tagged=tagged,
        columns=columns.chosen(db(), actor().user_id),
        every_column=columns.columns(db()),
        most_columns=columns.MOST,
        channels={key: one.kind.name for key, one in CHANNELS.items()},
        lists=queries.lists(db()),
    )


@pages.post("/people/columns")
def set_columns() -> Answer:
    """Sets which columns a colleague sees."""
    columns.keep(db(), actor().user_id, flask.request.form.getlist("column"))
    form = flask.request.form
    kept = {key: form[key] for key in ("search", "sort", "tag", "at") if form.get(key)}
    return done("people.table", **kept)


@pages.post("/people/seen.csv")
@needs("author")
def seen() -> Answer:
    """Everybody whom the table shows, on all its pages, in the columns that are seen."""
    form = flask.request.form
    tag, _, under = asked_tag(form.get("tag", ""))
    search = hidden.shown(form.get("search", ""))
    ids = queries.contact_ids(db(), search, under if tag else None)
    audit.record(db(), actor(), now(), "downloaded", "contacts", None, "", people=len(ids))
    shown = columns.chosen(db(), actor().user_id)
    return csv_file(people_csv.seen(database(), ids, shown), str(Wording("People")))


@pages.post("/people")
def search() -> Answer:
    """Leads to the table of those whom a search finds."""
    form = flask.request.form
    return hidden.search_leads_to(
        "people.table", sort=form.get("sort") or None, tag=form.get("tag") or None
    )


@pages.get("/people/new")
@needs("author")
def new() -> Answer:
    return _form(None, {}, None)


@pages.post("/people/new")
@needs("author")
def create() -> Answer:
    try:
        contact = actions.save_contact(db(), actor(), now(), _typed(), home=settings().country)
        if flask.request.form.get("agreed"):
            how = flask.request.form.get("how", "").strip()
            if not how:
                raise Invalid("Say how this person agreed, so that it can be shown later.", "how")
            actions.set_consent(db(), now(), contact.id, 0, True, how)
    except MeadowrunError as problem:
        db().rollback()
        return _form(None, _typed(), problem), problem.status
    return done(
        "people.show",
        Wording("%(full_name)s was added.", full_name=actions.full_name(contact)),
        ident=contact.id,
    )


def _form(contact: Contact | None, given: dict[str, str], problem: MeadowrunError | None) -> str:
    shown = dict(given)
    if contact is not None and not given:
        shown = {name: getattr(contact, name) or "" for name in (*actions.TEXT_COLUMNS, "email")}
        shown |= {
            k: "; ".join(v) if isinstance(v, list) else {True: "yes", False: "no"}.get(v, v)
            for k, v in contact.attributes.items()
        }
        company = db().get(Company, contact.company_id) if contact.company_id else None
        shown["company"] = company.name if company else ""
    return flask.render_template(
        "people/form.html",
        contact=contact,
        given=shown,
        problem=problem,
        own=queries.fields(db(), "contact"),
        zones=zone_names(),
        languages=language_names(),
    )


def _typed() -> dict[str, str]:
    """What the form says; of several that are ticked each stands behind a semicolon."""
    form = flask.request.form
    return {name: "; ".join(filter(None, form.getlist(name))) for name in form}


@pages.get("/people/<int:ident>/edit")
@needs("author")
def edit(ident: int) -> Answer:
    return _form(queries.contact(db(), ident), {}, None)


@pages.post("/people/<int:ident>/edit")
@needs("author")
def change(ident: int) -> Answer:
    contact = queries.contact(db(), ident)
    try:
        actions.save_contact(db(), actor(), now(), _typed(), contact, home=settings().country)
    except MeadowrunError as problem:
        db().rollback()
        return _form(queries.contact(db(), ident), _typed(), problem), problem.status
    return done("people.show", "Saved.", ident=ident)


@pages.get("/people/<int:ident>")
def show(ident: int) -> Answer:
    return _show(ident, None)


def _show(ident: int, problem: MeadowrunError | None) -> str:
    """A contact's page; `problem` is with what was written down of a yes or no, which stays
    typed."""
    contact = queries.contact(db(), ident)
    audit.looked(db(), actor(), now(), ident)
    company = db().get(Company, contact.company_id) if contact.company_id else None
    before = flask.request.args.get("before")
    try:
        moments = timeline(db(), ident, dt.datetime.fromisoformat(before) if before else None)
    except ValueError:
        raise Invalid("This page of the timeline does not exist.") from None
    return flask.render_template(
        "people/show.html",
        contact=contact,
        company=company,
        own=queries.fields(db(), "contact"),
        consent=queries.consent_of(db(), ident, every=True),
        usual=USUAL,
        concerned={key for key, one in CHANNELS.items() if one.concerns(db(), contact)},
        history=queries.consent_history(db(), ident, 8),
        moments=moments,
        suppression=queries.suppression_of(db(), contact.email_key),
        lists=queries.lists_of(db(), ident),
        merges=duplicates.recent(db(), now(), ident),
        most=60,
        problem=problem,
        form=flask.request.form,
    )


@pages.get("/people/<int:ident>/everything.json")
@needs("author")
def take_along(ident: int) -> Answer:
    """Everything kept of one contact, as a file."""
    text = json.dumps(wholly.everything(db(), ident), ensure_ascii=False, indent=2, default=str)
    audit.record(
        db(),
        actor(),
        now(),
        "downloaded everything about",
        "contact",
        ident,
        actions.full_name(queries.contact(db(), ident)),
    )
    return flask.Response(
        text,
        mimetype="application/json",
        headers={"Content-Disposition": f'attachment; filename="contact-{ident}.json"'},
    )


@pages.post("/people/<int:ident>/erase")
@needs("approver")
def erase_contact(ident: int) -> Answer:
    wholly.erase(db(), actor(), now(), ident)
    return done("people.table", "Erased for good. Past totals stay as they are.")


@pages.post("/people/<int:ident>/consent")
@needs("author")
def consent(ident: int) -> Answer:
    queries.contact(db(), ident)
    form = flask.request.form
    how = " ".join(form.get("how", "").split())
    about = next(
        (c for c in queries.consent_of(db(), ident, every=True) if c.key == form.get("about")), None
    )
    try:
        if form.get("agreed") == "yes" and not how:
            raise Invalid("Say how this person agreed, so that it can be shown later.", "how")
        if about is None:
            raise Invalid("Choose what they said yes or no to.", "about")
    except Invalid as problem:
        return _show(ident, problem), problem.status
    agreed = form.get("agreed") == "yes"
    actions.set_consent(
        db(),
        now(),
        ident,
        about.topic_id,
        agreed,
        how or f"withdrawn by {actor().name}",
        about.channel,
    )
    audit.record(
        db(),
        actor(),
        now(),
        "set the consent of",
        "contact",
        ident,
        actions.full_name(queries.contact(db(), ident)),
        about=about.topic,
        agreed=agreed,
    )
    return done("people.show", "Saved.", ident=ident)


@pages.get("/companies")
def companies() -> Answer:
    search = hidden.shown(flask.request.args.get("search", ""))
    rows = company_queries.page(
        db(), search, hidden.shown(flask.request.args.get("after", "")), PAGE + 1
    )
    return flask.render_template(
        "people/companies.html",
        rows=rows[:PAGE],
        search=search,
        own=queries.fields(db(), "company")[:4],
        after=rows[PAGE - 1][0].name if len(rows) > PAGE else None,
    )


@pages.post("/companies")
def search_companies() -> Answer:
    """Leads to the table of the companies that a search finds."""
    return hidden.search_leads_to("people.companies")


@pages.get("/companies/<int:ident>")
def company(ident: int) -> Answer:
    return _company(ident, {}, None)


def _company(ident: int, given: dict[str, str], problem: MeadowrunError | None) -> str:
    found = existing(db(), Company, ident, "company")
    return flask.render_template(
        "people/company.html",
        company=found,
        people=company_queries.people_of(db(), ident),
        given=given,
        problem=problem,
        alike=company_queries.alike(db(), found),
        own=queries.fields(db(), "company"),
    )


@pages.post("/companies/<int:ident>")
@needs("author")
def change_company(ident: int) -> Answer:
    found = existing(db(), Company, ident, "company")
    try:
        actions.save_company(
            db(), actor(), now(), found.name, {k: v or None for k, v in flask.request.form.items()}
        )
    except MeadowrunError as problem:
        db().rollback()
        return _company(ident, flask.request.form.to_dict(), problem), problem.status
    return done("people.company", "Saved.", ident=ident)


@pages.post("/companies/<int:ident>/<any(rename, merge):verb>")
@needs("author")
def settle_company(ident: int, verb: str) -> Answer:
    """Another name, or merged into the company of a name; its page follows."""
    found, name = existing(db(), Company, ident, "company"), flask.request.form.get("name", "")
    try:
        if verb == "rename":
            actions.rename_company(db(), actor(), found, name)
            return done("people.company", "Renamed.", ident=ident)
        kept = company_queries.named(db(), name)
        if kept is None:
            raise Invalid(
                Wording(
                    "There is no company “%(name)s”. Type the name as it is in the list.",
                    name=name,
                ),
                "name",
            )
        moved = actions.merge_companies(db(), actor(), found, kept)
        return done(
            "people.company",
            Wording(
                "“%(name)s” is part of it now; %(moved)s moved.",
                name=found.name,
                moved=count_of(moved, "person", "people"),
            ),
            ident=kept.id,
        )
    except MeadowrunError as problem:
        db().rollback()
        return _company(ident, {}, problem), problem.status


@pages.get("/people/fields")
def fields() -> Answer:
    return _fields({}, None)


def _fields(given: dict[str, str], problem: MeadowrunError | None) -> str:
    return flask.render_template(
        "people/fields.html",
        own=[*queries.fields(db(), "contact"), *queries.fields(db(), "company")],
        kinds=event_kinds(db()),
        type_words=TYPE_WORDS,
        given=given,
        problem=problem,
        standard=[f for f in words().fields.values() if f.column],
    )


@pages.post("/people/fields")
@needs("author")
def add_field() -> Answer:
    form = flask.request.form
    try:
        field = actions.add_field(
            db(),
            actor(),
            now(),
            form.get("owner", "contact"),
            form.get("label", ""),
            form.get("type", ""),
            form.get("options", "").replace("\n", ",").split(","),
            form.get("meaning", "").strip(),
        )
    except MeadowrunError as problem:
        db().rollback()
        return _fields(form.to_dict(), problem), problem.status
    return done(
        "people.fields", Wording("The field “%(label)s” can be used now.", label=field.label)
    )
