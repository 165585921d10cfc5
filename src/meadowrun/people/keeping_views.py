"""Pages of lists and of suppressed addresses."""

import datetime as dt
import zoneinfo

import flask

from meadowrun.base import audit
from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core import values
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.core.wording import number
from meadowrun.people import keeping, list_queries, people_csv, queries
from meadowrun.people.asked import words
from meadowrun.people.models import PeopleList
from meadowrun.people.tagged import narrowed
from meadowrun.shell import hidden
from meadowrun.shell.request import (
    Answer,
    actor,
    csv_file,
    database,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
    uploaded,
    zone,
)

pages = flask.Blueprint("keeping", __name__)
PAGE = 50
#: what a part of two lists is called
_PARTS = {
    "both": "In {here} and in {there}",
    "here": "In {here}, not in {there}",
    "there": "In {there}, not in {here}",
}


@pages.get("/lists")
def lists() -> Answer:
    return _lists(None)


def _lists(problem: MeadowrunError | None) -> str:
    rows, tagged = narrowed(queries.lists(db()), lambda row: row[0])
    return flask.render_template("people/lists.html", rows=rows, tagged=tagged, problem=problem)


@pages.post("/lists")
@needs("author")
def make() -> Answer:
    """A list by hand, from pasted addresses or numbers."""
    form = flask.request.form
    name = form.get("name", "").strip()
    if not name:
        return _lists(Invalid("Give the list a name you will recognise later.", "name")), 422
    made = keeping.make_list(db(), actor(), now(), name, f"by hand, {actor().name}")
    return _added(made, keeping.add_by_address(db(), actor(), now(), made, form.get("who", "")))


def _added(found: PeopleList, pasted: keeping.Pasted) -> Answer:
    said = Wording("%(n)s added.", n=number(pasted.taken))
    if pasted.known:
        said += " " + Wording("%(n)s in it already.", n=number(pasted.known))
    if pasted.refused:
        some = ", ".join(one for one, _ in pasted.refused[:8])
        more = len(pasted.refused) - 8
        said += " " + (
            Wording("Not added, because nobody has it: %(some)s and %(n)s more.", some=some, n=more)
            if more > 0
            else Wording("Not added, because nobody has it: %(some)s.", some=some)
        )
    return done("keeping.list_members", said, ident=found.id)


def _list(ident: int) -> PeopleList:
    return existing(db(), PeopleList, ident, "list")


@pages.get("/lists/<int:ident>")
def list_members(ident: int) -> Answer:
    found = _list(ident)
    arguments = flask.request.args
    after = integer(arguments.get("after", "0"), "after")
    other = (
        db().get(PeopleList, int(arguments["with"]))
        if is_whole(arguments.get("with", ""))
        else None
    )
    show = arguments.get("show", "both") if other else ""
    rows = list_queries.page(db(), ident, after, PAGE + 1, other.id if other else None, show)
    beside = (
        {key: list_queries.size(db(), ident, other.id, key) for key in ("both", "here", "there")}
        if other
        else {}
    )
    return flask.render_template(
        "people/list.html",
        found=found,
        rows=rows[:PAGE],
        total=list_queries.size(db(), ident),
        other=other,
        show=show,
        beside=beside,
        others=[item for item, _ in queries.lists(db()) if item.id != ident],
        shown=list_queries.size(db(), ident, other.id if other else None, show),
        segment=queries.segment_name(db(), found.segment_id),
        after=rows[PAGE - 1].id if len(rows) > PAGE else None,
    )


@pages.get("/lists/<int:ident>.csv")
@needs("author")
def list_csv(ident: int) -> Answer:
    """The people of a list as a file that can be imported again."""
    found = _list(ident)
    ids = list_queries.ids(db(), ident)
    audit.record(db(), actor(), now(), "downloaded", "list", found.id, found.name, people=len(ids))
    return csv_file(people_csv.lines(database(), ids, words()), found.name)


@pages.post("/lists/<int:ident>/rename")
@needs("author")
def rename(ident: int) -> Answer:
    try:
        keeping.rename_list(db(), actor(), now(), _list(ident), flask.request.form.get("name", ""))
    except MeadowrunError as problem:
        return not_done(problem, "keeping.list_members", ident=ident)
    return done("keeping.list_members", ident=ident)


@pages.post("/lists/<int:ident>/part")
@needs("author")
def part(ident: int) -> Answer:
    """The people in both lists, or only in one of them, as a list of their own."""
    form = flask.request.form
    here, there, show = _list(ident), _list(integer(form.get("with"), "with")), form.get("show", "")
    if show not in _PARTS:
        raise Invalid("Choose those in both lists, only here or only there.", "show")
    ids = list_queries.ids(db(), ident, there.id, show)
    said = _PARTS[show].format(here=here.name, there=there.name)
    made = keeping.make_list(db(), actor(), now(), said, f"{said}, as they were then", ids)
    return done("keeping.list_members", "The list will stay as it is.", ident=made.id)


@pages.post("/lists/<int:ident>/add")
@needs("author")
def add(ident: int) -> Answer:
    found = _list(ident)
    return _added(
        found,
        keeping.add_by_address(db(), actor(), now(), found, flask.request.form.get("who", "")),
    )


@pages.post("/lists/<int:ident>/remove/<int:contact>")
@needs("author")
def remove(ident: int, contact: int) -> Answer:
    keeping.take_out(db(), actor(), now(), _list(ident), [contact])
    return done(
        "keeping.list_members", "Removed from the list. The contact was not deleted.", ident=ident
    )


@pages.post("/lists/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    found = _list(ident)
    try:
        keeping.delete_list(db(), actor(), now(), found, queries.uses_of_list(db(), ident))
    except MeadowrunError as problem:
        return not_done(problem, "keeping.list_members", ident=ident)
    return done(
        "keeping.lists", Wording("“%(name)s” was deleted; its people stay.", name=found.name)
    )


@pages.get("/people/suppressions")
def suppressions() -> Answer:
    return _suppressions(None, {})


def _suppressions(
    problem: MeadowrunError | None, given: dict[str, str], domains: dict[str, int] | None = None
) -> str:
    """The table and the form with what was `given`; `domains` with their counts are to be confirmed
    first."""
    search = values.email_key(hidden.shown(flask.request.args.get("search", "")))
    start = max(0, integer(flask.request.args.get("from", "0"), "from"))
    rows = list_queries.suppressions(db(), search, start, PAGE + 1)
    return flask.render_template(
        "people/suppressions.html",
        rows=rows[:PAGE],
        search=search,
        total=list_queries.suppressed(db()),
        problem=problem,
        given=given,
        domains=domains,
        before=max(start - PAGE, 0) if start else None,
        after=start + PAGE if len(rows) > PAGE else None,
    )


def _until(text: str) -> dt.datetime | None:
    """The end of a day on the organisation's clock; None for ever."""
    if not text:
        return None
    try:
        after = dt.date.fromisoformat(text) + dt.timedelta(days=1)
    except (ValueError, OverflowError):
        raise Invalid(Wording("“%(text)s” is not a date.", text=text), "until") from None
    place: zoneinfo.ZoneInfo = zone()
    moment = dt.datetime.combine(after, dt.time(), place).astimezone(dt.UTC)
    if moment <= now():
        raise Invalid("That day has passed. Leave empty to suppress for ever.", "until")
    return moment


@pages.post("/people/suppressions/search")
def search_suppressions() -> Answer:
    """Leads to the suppressed addresses that a search finds."""
    return hidden.search_leads_to("keeping.suppressions")


@pages.post("/people/suppressions")
@needs("author")
def suppress() -> Answer:
    """One address or domain, or many: pasted, or from a file."""
    form, file = flask.request.form, flask.request.files.get("file")
    reason = form.get("reason", "").strip() or "asked not to be contacted"
    try:
        until = _until(form.get("until", ""))
        many = form.get("many", "") + ("\n" + uploaded(file).decode("utf-8", errors="replace"))
        if len(keeping.side_by_side(form.get("address", ""))) > 1:
            many = f"{form['address']}\n{many}"
        domains = keeping.domains_in(f"{form.get('address', '')}\n{many}")
        if domains and form.get("sure") != " ".join(domains):
            return _suppressions(
                None, form.to_dict() | {"many": many}, keeping.behind(db(), domains)
            )
        if many.strip():
            pasted = keeping.suppress_many(db(), actor(), now(), many, reason, until)
            said = Wording("%(n)s suppressed.", n=number(pasted.taken))
            if pasted.known:
                said += " " + Wording("%(n)s had been suppressed before.", n=number(pasted.known))
            if pasted.refused:
                first, why = pasted.refused[0]
                said += " " + Wording(
                    "%(n)s could not be read, like “%(first)s”: %(why)s",
                    n=number(len(pasted.refused)),
                    first=first,
                    why=why,
                )
            return done("keeping.suppressions", said)
        key = keeping.address_or_domain(form.get("address", ""))
        keeping.suppress(db(), now(), key, reason, f"by hand, {actor().name}", until)
    except MeadowrunError as problem:
        db().rollback()
        return _suppressions(problem, form.to_dict()), problem.status
    audit.record(db(), actor(), now(), "suppressed", "suppression", None, key)
    return done(
        "keeping.suppressions",
        Wording(
            "%(value)s%(key)s is now suppressed.",
            value="All of " if key.startswith("@") else "",
            key=key,
        ),
    )


@pages.post("/people/suppressions/lift")
@needs("approver")
def lift() -> Answer:
    key = flask.request.form.get("address", "")
    if key.startswith("@") and not flask.request.form.get("sure"):
        return flask.render_template(
            "people/lift.html", key=key, people=keeping.behind(db(), [key])[key]
        )
    keeping.lift_suppression(db(), actor(), now(), key)
    return done(
        "keeping.suppressions",
        ("Removed. Whether anything is sent there again depends on consent."),
    )
