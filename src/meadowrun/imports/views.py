"""Pages of imports: choose a file, match its columns, see what would happen, let it happen, see
what did."""

import dataclasses
from typing import Any

import flask

from meadowrun.base import audit
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core import countries
from meadowrun.core import people_file as pf
from meadowrun.core import table_file as tf
from meadowrun.core.audience.fields import TYPE_WORDS
from meadowrun.core.channels import CHANNEL_WORDS, USUAL
from meadowrun.core.language import Wording
from meadowrun.core.values import ValueProblem, is_whole, phone
from meadowrun.imports import actions, queries
from meadowrun.imports.consents import BROUGHT
from meadowrun.imports.models import Import
from meadowrun.people import queries as people
from meadowrun.people.models import PeopleList
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    needs,
    now,
    rows_as_csv,
    settings,
    uploaded,
)
from meadowrun.tags.actions import read as read_tags

pages = flask.Blueprint("imports", __name__)
STANDARD_LABELS = {
    "email": Wording("email address"),
    "reference": Wording("reference number"),
    "first_name": Wording("first name"),
    "last_name": Wording("last name"),
    "phone": "phone",
    "town": "town",
    "language": "language",
    "timezone": Wording("time zone"),
    "company": "company",
    pf.TAGS: "tags",
    pf.COUNTRY: Wording("country of the phone number"),
}
SAID_LABELS = {
    "agreed:email": Wording("agreed to email: yes or no"),
    "agreed:sms": Wording("agreed to text messages: yes or no"),
}


@pages.get("/imports")
def table() -> Answer:
    return flask.render_template("imports/table.html", rows=queries.recent(db()))


@pages.get("/imports/new")
@needs("author")
def start() -> Answer:
    return _start(None)


def _start(problem: MeadowrunError | None) -> str:
    """The page on which a file is chosen, with what is recognised in one and what came before."""
    return flask.render_template(
        "imports/start.html",
        problem=problem,
        standard=STANDARD_LABELS,
        own=people.fields(db(), "contact"),
        before=queries.recent(db(), most=5),
    )


@pages.post("/imports/new")
@needs("author")
def upload() -> Answer:
    file = flask.request.files.get("file")
    try:
        if file is None or not file.filename:
            raise Invalid("Choose a file first: a CSV or an XLSX.", "file")
        made = actions.upload(
            db(), actor(), now(), file.filename, uploaded(file), settings().country
        )
    except MeadowrunError as problem:
        db().rollback()
        return _start(problem), problem.status
    return done("imports.show", ident=made.id)


def _brought() -> dict[str, str]:
    """The channels that a file can bring consent to, each with what comes by it."""
    return {channel: CHANNEL_WORDS[channel] for channel in BROUGHT}


@pages.get("/imports/<int:ident>")
def show(ident: int) -> Answer:
    return _show(actions.get(db(), ident), None, None)


def _show(found: Import, problem: MeadowrunError | None, tried: pf.Plan | None) -> str:
    """An import's page; `tried` is the matching that has the problem: all that was chosen and typed
    stays."""
    if found.state in ("matching", "failed") or problem or flask.request.args.get("change"):
        plan = tried or pf.Plan.from_json(found.plan)
        types = found.types or ["text"] * len(found.columns)
        new = {f"own:{key}": (label, kind) for label, kind, key in plan.new}
        return flask.render_template(
            "imports/match.html",
            brought=_brought(),
            found=found,
            plan=plan,
            reading=tf.Reading(**found.reading).words(),
            problem=problem,
            standard=STANDARD_LABELS,
            said=SAID_LABELS,
            agreed=plan.channels if plan.consent or tried else (),
            own=people.fields(db(), "contact"),
            topics=people.topics(db()),
            types=types,
            new=new,
            countries=countries.names(),
            numbers=_numbers(found, plan),
            type_words=TYPE_WORDS,
            form=flask.request.form,
        )
    refusals, left_out = (
        queries.refusals(db(), found.id, 100),
        queries.refusals(db(), found.id, 100, taken=True),
    )
    made = db().get(PeopleList, found.list_id) if found.list_id else None
    return flask.render_template(
        "imports/show.html",
        brought=_brought(),
        usual=USUAL,
        found=found,
        refusals=refusals,
        left_out=left_out,
        made=made,
        plan=pf.Plan.from_json(found.plan),
        reading=tf.Reading(**found.reading).words(),
    )


def _numbers(found: Import, plan: pf.Plan) -> list[tuple[str, str]]:
    """The first telephone numbers of a file, each with how it would be kept, or why not."""
    if "phone" not in plan.targets:
        return []
    place, read = plan.targets.index("phone"), []
    # The same number in many rows is one example.
    for cell in dict.fromkeys(
        row[place] for row in found.sample if place < len(row) and row[place]
    ):
        try:
            read.append((cell, phone(cell, plan.country)))
        except ValueProblem as problem:
            read.append((cell, str(problem)))
    return read


@pages.get("/imports/<int:ident>/numbers")
@needs("author")
def numbers(ident: int) -> Answer:
    """The first telephone numbers, read as those of a country: what follows from choosing one."""
    found = actions.get(db(), ident)
    chosen = dataclasses.replace(
        pf.Plan.from_json(found.plan), country=flask.request.args.get("country", "")
    )
    return flask.render_template("imports/numbers.html", numbers=_numbers(found, chosen))


@pages.get("/imports/<int:ident>/progress")
def progress(ident: int) -> Answer:
    found = actions.get(db(), ident)
    return flask.render_template("imports/progress.html", found=found)


@pages.post("/imports/<int:ident>/plan")
@needs("author")
def plan(ident: int) -> Answer:
    """Takes the matching and starts the dry run."""
    found = actions.get(db(), ident)
    form = flask.request.form
    targets, new = [], {}
    for index, column in enumerate(found.columns):
        target = form.get(f"target{index}", "")
        if target == "new":
            new[index] = (
                form.get(f"label{index}", "").strip() or column,
                form.get(f"type{index}", "text"),
            )
            target = ""
        targets.append(target)
    channels = tuple(c for c in pf.SAID.values() if c in form.getlist("agreed"))
    consent = (
        " ".join(form.get("consent", "").split())
        if channels or any(t in pf.SAID for t in targets)
        else ""
    )
    chosen = pf.Plan(
        targets=tuple(targets),
        identify="reference" if form.get("identify") == "reference" else "email",
        known=form["known"] if form.get("known") in ("update", "fill", "keep") else "fill",
        day_first=form.get("day_first") != "no",
        country=form.get("country", ""),
        bad_cells="leave_out" if form.get("bad_cells") == "leave_out" else "refuse",
        consent=consent,
        channels=channels,
        topics=tuple(sorted({int(t) for t in form.getlist("topic") if is_whole(t)} | {0})),
        list_name=" ".join(form.get("list_name", "").split()) if form.get("as_list") else "",
    )
    try:
        chosen = dataclasses.replace(chosen, tags=tuple(read_tags(form.get("tags", ""))))
        if channels and not consent:
            raise Invalid(
                "Say how the newcomers agreed, so that it can be shown later; or untick it.",
                "consent",
            )
        actions.set_plan(db(), actor(), now(), found, chosen, new)
    except MeadowrunError as problem:
        db().rollback()
        return _show(actions.get(db(), ident), problem, chosen), problem.status
    return done("imports.show", ident=ident)


@pages.post("/imports/<int:ident>/go")
@needs("author")
def go(ident: int) -> Answer:
    found = actions.get(db(), ident)
    actions.carry_out(db(), actor(), now(), found)
    return done("imports.show", ident=ident)


@pages.get("/imports/<int:ident>/refused.csv")
@needs("author")
def refused(ident: int) -> Answer:
    """The refused rows with their reasons, to fix and import again: the file's own columns, two
    more behind."""
    found = actions.get(db(), ident)
    rows: list[list[Any]] = [[*found.columns, "row in the file", "reason"]]
    for r in queries.refusals(db(), ident):
        cells = [*r.cells, *([""] * (len(found.columns) - len(r.cells)))][: len(found.columns)]
        rows.append([*cells, r.row, f"{r.column}: {r.reason}"])
    audit.record(
        db(),
        actor(),
        now(),
        "downloaded the rejected rows of",
        "import",
        found.id,
        found.file_name,
        rows=len(rows) - 1,
    )
    return rows_as_csv(rows, found.file_name.rsplit(".", 1)[0] + "-refused")
