"""Campaigns: one page each, with its facts and its sends."""

import datetime as dt
from typing import Any

import flask

from meadowrun.base.errors import Conflict, Invalid, MeadowrunError
from meadowrun.campaigns import actions
from meadowrun.campaigns.models import Campaign
from meadowrun.core.language import Wording
from meadowrun.people.tagged import narrowed
from meadowrun.shell.request import (
    Answer,
    actor,
    counts_of,
    dates_of,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
    parts_of,
    running_of,
    uses_of,
    zone,
)
from meadowrun.tags.actions import read as read_tags

pages = flask.Blueprint("campaigns", __name__)


@pages.get("/campaigns")
def table() -> Answer:
    rows, tagged = narrowed(actions.campaigns(db()))
    dates = dates_of("campaign")
    return flask.render_template(
        "campaigns/table.html",
        rows=rows,
        tagged=tagged,
        counts=counts_of("campaign"),
        dates=dates,
        next_of={
            ident: next((one for one in found if one.ahead), None) for ident, found in dates.items()
        },
        last_of={
            ident: next((one for one in reversed(found) if not one.ahead), None)
            for ident, found in dates.items()
        },
        running=running_of("campaign"),
        today=now().astimezone(zone()).date(),
        zone=zone(),
    )


@pages.get("/campaigns/new")
@needs("author")
def new() -> Answer:
    return _form(None, {}, None)


def _form(campaign: Campaign | None, given: dict[str, str], problem: MeadowrunError | None) -> str:
    facts = [(k.replace("_", " "), str(v)) for k, v in campaign.facts.items()] if campaign else []
    if given:
        facts = _typed_facts()
    return flask.render_template(
        "campaigns/form.html",
        campaign=campaign,
        given=given,
        problem=problem,
        kinds=actions.kinds(db()),
        facts=facts,
    )


def _typed_facts() -> list[tuple[str, str]]:
    form = flask.request.form
    return [
        (name.strip(), value.strip())
        for name, value in zip(form.getlist("fact"), form.getlist("fact_value"), strict=False)
        if name.strip()
    ]


def _read() -> dict[str, Any]:
    form = flask.request.form
    values: dict[str, Any] = {
        "name": form.get("name", ""),
        "kind": form.get("kind", "Other"),
        "tags": read_tags(form.get("tags", "")),
    }
    for name in ("starts", "ends"):
        text = form.get(name, "")
        try:
            values[name] = dt.date.fromisoformat(text) if text else None
        except ValueError:
            raise Invalid(Wording("“%(text)s” is not a date.", text=text), name) from None
    facts: dict[str, str] = {}
    for label, value in _typed_facts():
        key = actions.fact_key(label)
        if not key or not key[0].isalpha():
            raise Invalid(
                Wording(
                    "The fact “%(label)s” needs a name that begins with a letter.", label=label
                ),
                "fact",
            )
        if key in facts:
            raise Invalid(Wording("The fact “%(label)s” is listed twice.", label=label), "fact")
        facts[key] = value
    return values | {"facts": facts}


@pages.post("/campaigns/new")
@needs("author")
def create() -> Answer:
    try:
        made = actions.save(db(), actor(), now(), _read())
    except MeadowrunError as problem:
        db().rollback()
        return _form(None, flask.request.form.to_dict(), problem), problem.status
    return done(
        "campaigns.show",
        Wording("“%(name)s” has begun. Give it a send.", name=made.name),
        ident=made.id,
    )


@pages.get("/campaigns/<int:ident>")
def show(ident: int) -> Answer:
    campaign = actions.get(db(), ident)
    return flask.render_template(
        "campaigns/show.html",
        campaign=campaign,
        sends=[part for part in parts_of("campaign.sends", ident) if part],
        dates=dates_of("campaign").get(ident, []),
        today=now().astimezone(zone()).date(),
        zone=zone(),
    )


@pages.get("/campaigns/<int:ident>/edit")
@needs("author")
def edit(ident: int) -> Answer:
    return _form(actions.get(db(), ident), {}, None)


@pages.post("/campaigns/<int:ident>/edit")
@needs("author")
def change(ident: int) -> Answer:
    campaign = actions.get(db(), ident)
    try:
        typed = flask.request.form.get("version")
        actions.save(
            db(), actor(), now(), _read(), campaign, integer(typed, "version") if typed else None
        )
    except MeadowrunError as problem:
        db().rollback()
        # What was typed may be saved over the other change once somebody has read this.
        given = flask.request.form.to_dict() | (
            {"version": str(problem.newest)}
            if isinstance(problem, Conflict) and problem.newest
            else {}
        )
        return _form(actions.get(db(), ident), given, problem), problem.status
    return done("campaigns.show", "Saved.", ident=ident)


@pages.post("/campaigns/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    campaign = actions.get(db(), ident)
    name = campaign.name
    try:
        actions.delete(
            db(),
            actor(),
            now(),
            campaign,
            [f"the {use.what} “{use.name}”" for use in uses_of("campaign", ident)],
        )
    except MeadowrunError as problem:
        return not_done(problem, "campaigns.show", ident=ident)
    return done("campaigns.table", Wording("“%(name)s” was deleted.", name=name))
