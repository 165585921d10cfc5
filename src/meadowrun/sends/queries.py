"""Who a send is to, what would become of them, and what did."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock
from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid
from meadowrun.base.manifest import Dated, Going
from meadowrun.campaigns.models import Campaign
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.nodes import ShareLine
from meadowrun.core.guardrails.guards import AS_IT_LEAVES, verdict_sql
from meadowrun.core.guardrails.limits import ControlGroup, control_words
from meadowrun.core.language import Wording
from meadowrun.core.timing.hours import Hours
from meadowrun.gateways.channels import CHANNELS
from meadowrun.messages.models import Message
from meadowrun.outgoing import held_out
from meadowrun.outgoing.had import Before
from meadowrun.people.models import PeopleList
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments.compile import Compiler
from meadowrun.segments.facts import facts_sql
from meadowrun.segments.fetching import compiler_for
from meadowrun.segments.models import Segment
from meadowrun.sends.models import Send

#: States in which the sheet may still be changed.
EDITABLE = ("draft", "planned")
RUNNING = ("taking", "running", "paused")


def send(session: orm.Session, send_id: int) -> Send:
    return existing(session, Send, send_id, "send")


def after(session: orm.Session, number: int, most: int) -> list[Send]:
    """Sends by number, those after one."""
    query = sa.select(Send).where(Send.id > number).order_by(Send.id).limit(most)
    return list(session.scalars(query))


def recent(
    session: orm.Session,
    states: tuple[str, ...] | None = None,
    campaign_id: int | None = None,
    most: int = 100,
) -> list[tuple[Send, Campaign]]:
    """Sends with their campaigns, those that moved last first."""
    query = sa.select(Send, Campaign).join(Campaign, Campaign.id == Send.campaign_id)
    if states:
        query = query.where(Send.state.in_(states))
    if campaign_id:
        query = query.where(Send.campaign_id == campaign_id)
    moment = sa.func.coalesce(Send.taken_at, Send.leaves_at, Send.changed_at)
    return [
        (row[0], row[1])
        for row in session.execute(query.order_by(moment.desc(), Send.id.desc()).limit(most))
    ]


def of_segment(session: orm.Session, segment_id: int) -> list[Send]:
    """The sends that name a segment, to write to, to leave out or as a control group."""
    wanted = [{"segment": segment_id}]
    return list(
        session.scalars(
            sa.select(Send)
            .where(
                sa.or_(
                    Send.audience["in"].contains(wanted),
                    Send.audience["out"].contains(wanted),
                    Send.control.contains(wanted[0]),
                )
            )
            .order_by(Send.id.desc())
        )
    )


def used_lately(session: orm.Session, but: int, most: int = 4) -> list[tuple[str, str]]:
    """The segments and lists that the sends changed last name: (kind:number, name), the latest
    first."""
    found: dict[str, str] = {}
    for audience in session.scalars(
        sa.select(Send.audience)
        .where(Send.id != but)
        .order_by(Send.changed_at.desc(), Send.id.desc())
        .limit(10)
    ):
        for item in [*audience.get("in", []), *audience.get("out", [])]:
            for kind, number in item.items():
                if (
                    kind in ("segment", "list")
                    and session.get(Segment if kind == "segment" else PeopleList, number)
                    is not None
                ):
                    found.setdefault(f"{kind}:{number}", name_of(session, item))
    return list(found.items())[:most]


def messages_lately(session: orm.Session) -> list[tuple[Message, dt.datetime | None]]:
    """Every message with when a send of it last left, if one did; the latest written or sent
    first."""
    sent = (
        sa.select(Send.message_id, sa.func.max(Send.taken_at).label("at"))
        .group_by(Send.message_id)
        .subquery()
    )
    return [
        (message, at)
        for message, at in session.execute(
            sa.select(Message, sent.c.at)
            .outerjoin(sent, sent.c.message_id == Message.id)
            .order_by(sa.func.greatest(Message.changed_at, sent.c.at).desc(), Message.id.desc())
        )
    ]


@dataclasses.dataclass
class Audience:
    """An audience as SQL over `contacts c`, with its bind values; `control` is who of it is in the
    control group to compare with, `held_out` who is in the standing one."""

    predicate: str
    values: dict[str, Any]
    control: str = "FALSE"
    held_out: str = "FALSE"


def condition_of(
    session: orm.Session, item: Mapping[str, Any], compiler: Compiler, words: Dictionary
) -> str:
    """Who is in a segment or list that an audience names, as SQL over `contacts c`. Raises
    Invalid."""
    if item.get("everyone"):
        return "TRUE"
    if "list" in item:
        if session.get(PeopleList, item["list"]) is None:
            raise Invalid("A list that this send names was deleted. Choose another.", "to")
        return f"c.id IN (SELECT contact_id FROM list_members WHERE list_id = {int(item['list'])})"
    segment = session.get(Segment, item.get("segment"))
    if segment is None:
        raise Invalid("A segment that this send names was deleted. Choose another.", "to")
    try:
        return compiler.definition(d.parse(segment.definition, words))
    except d.DefinitionError as problem:
        raise Invalid(
            Wording(
                "The segment “%(name)s” has an error to fix first: %(problem)s",
                name=segment.name,
                problem=problem,
            ),
            "to",
        ) from None


def audience(
    moment: Moment,
    definition: Mapping[str, Any],
) -> Audience:
    """Everyone in any of "in" and in none of "out"; out wins. Raises Invalid with place "to"."""
    compiler = compiler_for(moment)
    predicate = audience_sql(moment, definition, compiler)
    return Audience(predicate, compiler.values)


def audience_sql(moment: Moment, definition: Mapping[str, Any], compiler: Compiler) -> str:
    """The same as SQL over `contacts c`, whose values are the compiler's. Raises Invalid."""
    included = [
        f"({condition_of(moment.session, item, compiler, moment.words)})"
        for item in definition.get("in", [])
    ]
    excluded = [
        f"({condition_of(moment.session, item, compiler, moment.words)})"
        for item in definition.get("out", [])
    ]
    predicate = " OR ".join(included) or "FALSE"
    if excluded:
        predicate = f"({predicate}) AND NOT coalesce({' OR '.join(excluded)}, FALSE)"
    return predicate


def audience_of(moment: Moment, send: Send) -> Audience:
    """`audience` of a send, with those in the control group: by chance the same people in every
    send of a campaign. Raises Invalid."""
    who = audience(moment, send.audience)
    compiler = compiler_for(moment)
    compiler.values = who.values
    control, standing = ControlGroup.of(send.control), held_out.share_of(moment)
    kept = "FALSE"
    if control.percent:
        kept = compiler.node(ShareLine("", control.percent, f"campaign:{send.campaign_id}"))
    elif control:
        kept = condition_of(moment.session, send.control, compiler, moment.words)
    out = compiler.node(standing) if standing else "FALSE"
    return Audience(
        who.predicate, compiler.values, f"coalesce({kept}, FALSE)", f"coalesce({out}, FALSE)"
    )


def still_in(
    session: orm.Session,
    ident: int,
    contacts: Sequence[int],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> set[int]:
    """Who of some contacts is in the audience of a send now. Whoever a deleted segment named is
    not, since nobody is in it any more."""
    moment = Moment(session, dictionary(session), now, zone)
    try:
        who = audience(moment, session.get_one(Send, ident).audience)
    except Invalid:
        return set()
    asked = f"SELECT c.id FROM contacts c WHERE c.id = ANY(:some) AND ({who.predicate})"
    return set(session.scalars(sa.text(asked), {**who.values, "some": list(contacts)}))


def control_named(session: orm.Session, send: Send) -> str:
    """The control group of a send, in words."""
    control = ControlGroup.of(send.control)
    return control_words(
        control, name_of(session, send.control) if control and not control.percent else ""
    )


def _repeated(channel: str) -> str:
    """Whether an earlier record of an audience has the same address, as a column."""
    return (
        f"row_number() OVER (PARTITION BY coalesce({CHANNELS[channel].same_address}, "
        "c.id::text) ORDER BY c.id) > 1 AS repeated_address"
    )


def facts_of_audience(
    send: Send, who: Audience, channel: str, now: dt.datetime
) -> tuple[str, dict[str, Any]]:
    """SQL over everybody of an audience: what the verdict asks, their zone, and `pick`, by which an
    audience limit picks by chance; with its bind values."""
    had, values = had_before(send).sql(now)
    pick = (
        f"md5(f.id || ':send:{int(send.id)}')"
        if send.audience_limit is not None
        else "hashint8(f.id)::text"
    )
    return (
        f"SELECT f.*, {_repeated(channel)}, c.timezone AS zone, "
        f"{f'c.id IN ({had})' if had else 'FALSE'} AS had_before, "
        f"{who.held_out} AS held_out, {who.control} AS control, {pick} AS pick FROM "
        f"({facts_sql(send.topic_id, channel=channel)}) "
        "f JOIN contacts c USING (id) "
        f"WHERE {who.predicate}"
    ), who.values | values


def had_before(send: Send) -> Before:
    """Whom a send leaves out because they had it before."""
    return Before(send.again_rule, send.again_days, send.message_id, send.campaign_id)


def picked_sql(
    send: Send, who: Audience, channel: str, now: dt.datetime
) -> tuple[str, dict[str, Any]]:
    """SQL over everybody of an audience: id, repeated_address, control, and, where the send has a
    audience limit, `place`, counted by chance among those who would get it now and are not in the
    control group, empty for the others; with its bind values."""
    if send.audience_limit is None:
        # What the verdict asks is not needed yet.
        return (
            f"SELECT c.id, {_repeated(channel)}, "
            f"{who.control} AS control, NULL::bigint AS place FROM contacts c WHERE {who.predicate}"
        ), who.values
    would = f"({verdict_sql(send.consent_rule, AS_IT_LEAVES)} = 'go')"
    facts, values = facts_of_audience(send, who, channel, now)
    return (
        f"SELECT id, repeated_address, control, CASE WHEN {would} THEN row_number() OVER "
        f"(PARTITION BY {would} ORDER BY pick) END AS place FROM "
        f"({facts}) x",
        values,
    )


def channel_of(session: orm.Session, send: Send) -> str:
    """The channel of a send's message; email while none was chosen."""
    return (
        session.scalar(sa.select(Message.channel).where(Message.id == send.message_id)) or "email"
    )


def tags_of(session: orm.Session, send: Send) -> list[int]:
    """The tags of what a send sends: those of its campaign and of its message."""
    campaign = session.get_one(Campaign, send.campaign_id)
    message = session.get(Message, send.message_id) if send.message_id else None
    return sorted({*campaign.tags, *(message.tags if message else [])})


def channels_of(session: orm.Session, sends: Iterable[Send]) -> dict[int, str]:
    """The channel of each of some sends, by their numbers; email while no message was chosen."""
    wanted = {send.id: send.message_id for send in sends}
    known = {
        row[0]: row[1]
        for row in session.execute(
            sa.select(Message.id, Message.channel).where(
                Message.id.in_({m for m in wanted.values() if m})
            )
        )
    }
    return {ident: known.get(message or 0, "email") for ident, message in wanted.items()}


def hours(send: Send) -> tuple[int, int] | None:
    """The hours in which a send reaches people, on their clock or on that its moment was named in;
    None while nothing is said of it."""
    if send.local_at is not None and not send.best_hour:
        return send.local_at.hour, send.local_at.hour + 1
    if send.hours:
        within = Hours.of(send.hours)
        if within.begins < within.ends:
            return within.begins // 60, -(-within.ends // 60)
    if send.leaves_at is None or send.best_hour:
        return None
    hour = send.leaves_at.astimezone(zoneinfo.ZoneInfo(send.zone)).hour
    return hour, hour + 1


def name_of(session: orm.Session, item: Mapping[str, Any]) -> str:
    """The name of a segment or list that an audience names; everyone has none of their own."""
    if item.get("everyone"):
        return "everyone"
    found: PeopleList | Segment | None = None
    if "list" in item:
        found = session.get(PeopleList, item["list"])
    elif "segment" in item:
        found = session.get(Segment, item["segment"])
    return found.name if found else "(deleted)"


#: So long ago, and so far ahead, the moments of sends are shown.
_SHOWN = dt.timedelta(days=120)


def dates_by_campaign(session: orm.Session) -> dict[int, list[Dated]]:
    """When sends of each campaign went out lately, or are planned."""
    now = clock.now(session)
    moment = sa.func.coalesce(Send.taken_at, Send.leaves_at)
    asked = sa.select(Send, moment).where(
        sa.or_(Send.taken_at.is_not(None), Send.state == "planned"),
        moment.between(now - _SHOWN, now + _SHOWN),
    )
    found: dict[int, list[Dated]] = {}
    for send, at in session.execute(asked):
        ahead = send.taken_at is None
        one = Dated(at, send.name, f"/{'sends' if ahead else 'results'}/{send.id}", ahead)
        found.setdefault(send.campaign_id, []).append(one)
    return found


def dates_by_message(session: orm.Session) -> dict[int, list[Dated]]:
    """The last time that each message was sent, and the next send of it that is planned."""
    moment = sa.func.coalesce(Send.taken_at, Send.leaves_at)
    asked = (
        sa.select(Send.message_id, Send.id, Send.name, Send.taken_at.is_(None), moment)
        .where(
            Send.message_id.is_not(None),
            sa.or_(Send.taken_at.is_not(None), Send.state == "planned"),
        )
        .order_by(moment)
    )
    last: dict[int, Dated] = {}
    coming: dict[int, Dated] = {}
    for message, ident, name, ahead, at in session.execute(asked):
        if message is None:
            continue
        if ahead:
            coming.setdefault(message, Dated(at, name, f"/sends/{ident}", True))
        else:
            last[message] = Dated(at, name, f"/results/{ident}", False)
    return {
        message: [one for one in (last.get(message), coming.get(message)) if one is not None]
        for message in last.keys() | coming.keys()
    }


def count_by_campaign(session: orm.Session) -> dict[int, int]:
    """How many sends each campaign has."""
    return {
        row[0]: row[1]
        for row in session.execute(
            sa.select(Send.campaign_id, sa.func.count()).group_by(Send.campaign_id)
        )
    }


def count_by_message(session: orm.Session) -> dict[int, int]:
    """How many sends name each message."""
    return {
        row[0] or 0: row[1]
        for row in session.execute(
            sa.select(Send.message_id, sa.func.count())
            .where(Send.message_id.is_not(None))
            .group_by(Send.message_id)
        )
    }


def between(
    session: orm.Session, first: dt.datetime, until: dt.datetime
) -> list[tuple[Send, Campaign, dt.datetime]]:
    """The sends that left or will leave once within a span, each with its campaign and moment, in
    order."""
    moment = sa.func.coalesce(Send.taken_at, Send.leaves_at)
    return [
        (row[0], row[1], row[2])
        for row in session.execute(
            sa.select(Send, Campaign, moment)
            .join(Campaign, Campaign.id == Send.campaign_id)
            .where(moment >= first, moment < until, Send.rhythm == "")
            .order_by(moment)
        )
    ]


def last_with(session: orm.Session, success: str) -> Send | None:
    """The last send that is done and counted this kind of event as success."""
    return session.scalar(
        sa.select(Send)
        .where(Send.success_event == success, Send.state == "done")
        .order_by(Send.taken_at.desc())
        .limit(1)
    )


def goes(session: orm.Session, message_id: int) -> Going | None:
    """Where a message goes next: by the last send that names it; its hours are those of the last
    that has not left."""
    last = session.scalar(
        sa.select(Send).where(Send.message_id == message_id).order_by(Send.id.desc()).limit(1)
    )
    if last is None:
        return None
    ahead = session.scalar(
        sa.select(Send)
        .where(Send.message_id == message_id, Send.state.in_(EDITABLE))
        .order_by(Send.id.desc())
        .limit(1)
    )

    def people(
        words: Dictionary, now: dt.datetime, zone: zoneinfo.ZoneInfo
    ) -> tuple[str, dict[str, Any]] | None:
        if not last.audience.get("in"):
            return None
        who = audience(Moment(session, words, now, zone), last.audience)
        return who.predicate, who.values

    return Going(
        f"the people of “{last.name}”",
        session.get_one(Campaign, last.campaign_id).facts,
        hours(ahead) if ahead else None,
        people,
    )


def left_by(session: orm.Session, message_id: int) -> str | None:
    """The name of a send by which a message left; None where it never did."""
    return session.scalar(
        sa.select(Send.name)
        .where(Send.message_id == message_id, Send.taken_at.is_not(None))
        .limit(1)
    )
