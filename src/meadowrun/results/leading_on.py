"""What a number of a result leads on to: its people written to, kept as a list or as a living
segment, tagged; and a second send to those who did not react."""

import datetime as dt
import zoneinfo
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.campaigns.models import Campaign
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.language import Wording
from meadowrun.core.wording import free_name
from meadowrun.people.keeping import make_list
from meadowrun.people.models import PeopleList
from meadowrun.results.queries import all_behind
from meadowrun.segments import actions as segments
from meadowrun.segments.models import Segment
from meadowrun.sends import actions as sends
from meadowrun.sends import beginning
from meadowrun.sends.again_to import same_as
from meadowrun.sends.models import Send
from meadowrun.tags import actions as tags

#: What a living segment says of the people behind a number: of what came of the send, and whether.
#: Other numbers are of people of that moment only.
SEGMENTS: dict[str, tuple[tuple[str, bool], ...]] = {
    "delivered": (("delivered", True),),
    "opened": (("opened", True),),
    "clicked": (("clicked", True),),
    "replied": (("replied", True),),
    "complained": (("complained", True),),
    "unsubscribed": (("unsubscribed", True),),
    "converted": (("converted", True),),
    "not_opened": (("delivered", True), ("opened", False)),
    "not_clicked": (("delivered", True), ("clicked", False)),
}
#: Those who can be followed up, by what they did not do, with what a segment of them is called.
FOLLOWED = {
    "not_opened": Wording("Did not open %(send)s"),
    "not_clicked": Wording("Did not click in %(send)s"),
}


def keep_list(
    session: orm.Session, actor: Actor, now: dt.datetime, send: Send, what: str, name: str
) -> PeopleList:
    """The people behind a number, kept as a list. Raises Invalid where there are none."""
    people = _people(session, send, what)
    source = Wording("from the result of “%(send)s”", send=send.name)
    return make_list(session, actor, now, name, source, people)


def keep_segment(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    send: Send,
    what: str,
    words: Dictionary,
    name: str,
) -> Segment:
    """A living segment of those of whom a number is true, now and later. Raises Invalid, Conflict
    where another one is called that."""
    if what not in SEGMENTS:
        raise Invalid("These people can be kept as a list only.")
    return segments.save(session, actor, now, words, name, {"lines": _lines(send, what)})


def tag(
    session: orm.Session, actor: Actor, now: dt.datetime, send: Send, what: str, path: str
) -> int:
    """Gives the people behind a number a tag; says how many did not have it. Raises Invalid."""
    paths = tags.read(path)
    if len(paths) != 1:
        raise Invalid("Give one tag, like season/winter.", "tag")
    return tags.give(session, actor, now, paths[0], _people(session, send, what))


def follow_up(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    send: Send,
    what: str,
    words: Dictionary,
    zone: zoneinfo.ZoneInfo,
) -> Send:
    """A second send, not started, of the same message to whoever got the first and did not react,
    as far as they did not do meanwhile what counts as success; who reacts before it goes is left
    out. Raises Invalid."""
    if what not in FOLLOWED:
        raise Invalid("Only those who did not react can be followed up.")
    name = Wording("%(send)s, follow-up", send=send.name)
    lines = _lines(send, what)
    if send.success_event:
        lines.append(_line(len(lines), "converted", False, send))
    taken = set(session.scalars(sa.select(Segment.name)))
    called = free_name(str(Wording(FOLLOWED[what].message, send=send.name)), taken)
    segment = segments.save(session, actor, now, words, called, {"lines": lines})
    made = beginning.begin(
        session,
        actor,
        now,
        session.get_one(Campaign, send.campaign_id),
        free_name(str(name), set(session.scalars(sa.select(Send.name)))),
        str(zone),
        parts=[{"segment": segment.id}],
    )
    sends.change(session, actor, now, made, made.version, same_as(send))
    return made


def _people(session: orm.Session, send: Send, what: str) -> list[int]:
    people = all_behind(session, send, what)
    if not people:
        raise Invalid("Nobody is behind this number.")
    return people


def _lines(send: Send, what: str) -> list[dict[str, Any]]:
    """The lines of a definition of those behind a number."""
    return [_line(place, came, did, send) for place, (came, did) in enumerate(SEGMENTS[what])]


def _line(place: int, came: str, did: bool, send: Send) -> dict[str, Any]:
    return {
        "id": f"r{place}",
        "kind": "mail",
        "what": came,
        "did": did,
        "of": {"send": send.id},
        "span": {},
    }
