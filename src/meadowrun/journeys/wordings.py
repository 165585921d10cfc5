"""Words for colleagues: those of tasks and of emails to them, filled in for each person they are
about; and the emails themselves."""

import datetime as dt
import re
import zoneinfo
from collections.abc import Collection, Mapping
from typing import Any

import jinja2
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.campaigns.models import Campaign
from meadowrun.core import wording
from meadowrun.core.content import fillins
from meadowrun.core.journeys.details import ANSWER
from meadowrun.core.journeys.steps import TellStep
from meadowrun.core.language import Wording
from meadowrun.journeys.models import Journey, JourneyEntry
from meadowrun.messages.values import Needs, known_refs, nested, of_people
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.shell.telling import named, tell

#: What words for colleagues can be filled in with.
ROOTS = ("contact", "company", "fact", "event")
#: Of more people at once a colleague gets one email about all of them; it names so many.
_SINGLE = 5
_QUESTIONS = re.compile(r"\{%.*%\}", re.S)
_NAMED = 50


def filled(
    session: orm.Session,
    journey: Journey,
    text: str,
    entries: Mapping[int, int],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> dict[int, str]:
    """A text for each of some entries (entry → contact), with what is known of the person, of the
    event that brought them in and of the campaign. What is not known is left out."""
    if "{" not in text:
        return dict.fromkeys(entries, text)
    try:
        refs = {ref for ref in fillins.refs(text) if ref.split(".")[0] in ROOTS}
        template = fillins.environment(False).from_string(text)
    except (fillins.FillInError, jinja2.TemplateError):
        # Checked before it starts; who is inside does not stand still over it.
        return dict.fromkeys(entries, fillins.named(text))
    moment = Moment(session, dictionary(session), now, zone)
    # A field that is gone since is left out.
    plain = frozenset(refs & known_refs(moment.words).keys())
    known = of_people(moment, list(set(entries.values())), Needs(plain, {}))
    details = _details(session, entries) if any(ref.startswith("event.") for ref in refs) else {}
    facts = session.get_one(Campaign, journey.campaign_id).facts
    found = {}
    for entry, contact in entries.items():
        values: dict[str, Any] = dict.fromkeys(refs)
        values |= {f"fact.{key}": value for key, value in facts.items()}
        values |= {f"event.{key}": value for key, value in (details.get(entry) or {}).items()}
        values |= known.get(contact, {})
        found[entry] = _said(template, values, text)
    return found


def _said(template: jinja2.Template, values: Mapping[str, Any], text: str) -> str:
    """The text filled in; where that fails, with the names of what was to stand there."""
    own = {key: value for key, value in values.items() if not key.startswith("fact.")}
    facts = {key.split(".", 1)[1]: value for key, value in values.items() if key not in own}
    try:
        return " ".join(template.render(nested(own, facts)).split())
    except (jinja2.TemplateError, TypeError, ValueError, ArithmeticError):
        # What stands under a question is left out: it could say what is not so.
        return " ".join(fillins.named(_QUESTIONS.sub("", text)).split())


def _details(session: orm.Session, entries: Mapping[int, int]) -> dict[int, dict[str, Any] | None]:
    asked = sa.select(JourneyEntry.id, JourneyEntry.details)
    found = session.execute(asked.where(JourneyEntry.id.in_(list(entries))))
    return dict(found.tuples().all())


def tell_colleagues(
    session: orm.Session,
    journey: Journey,
    step: TellStep,
    entries: Mapping[int, int],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> None:
    """Writes to the colleagues of a step about those who came there: of a few one email each, of
    more one about all of them. Who does not wish to be told by email is not."""
    asked = sa.select(Contact).where(Contact.id.in_(set(entries.values())))
    people = {one.id: one for one in session.scalars(asked)}
    # In the order in which they came in.
    here = {entry: entries[entry] for entry in sorted(entries) if entries[entry] in people}
    words = filled(session, journey, step.text, here, now, zone)
    colleagues = step.to or (named(session, journey.started_by),)
    key = f"journey:{journey.id}:{step.id}"
    if len(here) <= _SINGLE:
        for entry, contact in here.items():
            subject, about = words[entry], f"{key}:{entry}:{now.isoformat()}"
            body = Wording(
                "%(who)s is at this step of the journey “%(journey)s”.",
                who=_name(people[contact]),
                journey=journey.name,
            )
            for user in colleagues:
                tell(session, now, user, about, subject, str(body), f"/people/{contact}")
        return
    lines = [f"{_name(people[contact])}: {words[entry]}" for entry, contact in here.items()]
    more = len(lines) - _NAMED
    if more > 0:
        rest = Wording("and %(count)s", count=wording.count_of(more, "other"))
        lines = [*lines[:_NAMED], str(rest)]
    subject = str(
        Wording(
            "%(count)s: %(text)s",
            count=wording.count_of(len(here), "person", "people"),
            text=fillins.named(step.text),
        )
    )
    for user in colleagues:
        about = f"{key}:{now.isoformat()}"
        tell(session, now, user, about, subject, "\n".join(lines), f"/journeys/{journey.id}")


def _name(who: Contact) -> str:
    """What a person is called, or where they are written to."""
    return f"{who.first_name or ''} {who.last_name or ''}".strip() or who.email or f"No. {who.id}"


def problem_of(
    text: str, known: Collection[str], facts: Collection[str], details: Collection[str]
) -> str:
    """Why words for colleagues cannot be filled in; empty where they can. `known` are fields, the
    others what the campaign and the events say that start the journey."""
    try:
        refs = fillins.refs(text)
    except fillins.FillInError as problem:
        return str(problem)
    can = {*known, *(f"fact.{one}" for one in facts), *(f"event.{one}" for one in details)}
    for ref in sorted(refs):
        if ref not in can and not ref.startswith(f"event.{ANSWER}"):
            return Wording("There is nothing called “%(name)s” to fill in here.", name=ref)
    return ""
