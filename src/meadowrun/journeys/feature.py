"""Journeys: steps that each contact walks through in their own time."""

from collections.abc import Iterator

import flask
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.manifest import Feature, Owner, Thing, Use, Way, named
from meadowrun.core.journeys.beginnings import BEGINNINGS
from meadowrun.core.language import Wording
from meadowrun.journeys.models import STATES, Journey
from meadowrun.journeys.page import drawn_of_campaign, drawn_of_contact
from meadowrun.journeys.queries import (
    all_journeys,
    count_by_campaign,
    nobodys,
    of_campaign,
    of_segment,
    running_by_campaign,
    running_by_message,
    said_to,
)
from meadowrun.shell.accounts import may


def _of_campaign(session: orm.Session, campaign_id: int) -> Iterator[Use]:
    for one in of_campaign(session, campaign_id):
        path = flask.url_for("journeys.show", ident=one.id)
        yield Use("journey", one.name, STATES[one.state], path)


def _of_segment(session: orm.Session, segment_id: int) -> Iterator[Use]:
    for one in of_segment(session, segment_id):
        path = flask.url_for("journeys.show", ident=one.id)
        yield Use("journey", one.name, STATES[one.state], path)


def _stuck(session: orm.Session, who: Actor) -> Iterator[Thing]:
    """Running journeys on which people wait because something is wrong."""
    if not may(who, "author"):
        return
    for one in all_journeys(session):
        if one.problem and one.state in ("running", "paused"):
            path = flask.url_for("journeys.show", ident=one.id)
            what = (
                Wording("People wait at a step of")
                if one.state == "running"
                else Wording("Look into what paused")
            )
            yield Thing(what, one.name, path, one.problem)


def _waits(session: orm.Session, who: Actor) -> Iterator[Thing]:
    """What needs a hand: journeys where something is wrong, and those that nobody looks after."""
    yield from _stuck(session, who)
    if not may(who, "admin"):
        return
    for one in nobodys(session):
        path = flask.url_for("journeys.show", ident=one.id)
        note = Wording("%(who)s, who started it, was deactivated", who=one.started_by)
        yield Thing(Wording("Look after"), one.name, path, note)


FEATURE = Feature(
    waits=_waits,
    pages={
        "views": Wording("Campaigns"),
        "editing_views": Wording("Campaigns"),
        "around_views": Wording("Campaigns"),
        "people_views": Wording("Campaigns"),
        "rehearsal_views": Wording("Campaigns"),
        "pattern_views": Wording("Campaigns"),
    },
    tasks=("jobs",),
    does=(
        Way(
            Wording("Journeys"),
            "journeys.table",
            Wording(
                "automation flow welcome series drip steps trigger webhook split test reminder "
                "autoresponder rehearse"
            ),
        ),
    ),
    finds=(named("journeys.show", Journey, "journey"),),
    owns={
        "journey": Owner(
            lambda session, ident, state, now: None,
            lambda ident: f"/journeys/{ident}",
            lambda ident: flask.url_for("journeys.show", ident=ident),
        )
    },
    uses={"campaign": _of_campaign, "segment": _of_segment},
    parts={"campaign.sends": drawn_of_campaign, "contact.margin": drawn_of_contact},
    counts={"campaign": count_by_campaign},
    running={"campaign": running_by_campaign, "message": running_by_message},
    happened=said_to,
    says={"beginnings": lambda: BEGINNINGS},
)
