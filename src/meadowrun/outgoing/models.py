"""What leaves, to whom, and what people did with it."""

import datetime as dt
import uuid
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base
from meadowrun.core import tags
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.guardrails.outcomes import OUTCOMES
from meadowrun.core.timing.hours import Hours

#: In this order a number is drawn for each delivery.
NUMBERS = sa.Sequence("delivery_numbers", metadata=Base.metadata)


class Dispatch(Base):
    """One edition for the people of one source, with all that decides who gets it and how."""

    __tablename__ = "dispatches"
    id: orm.Mapped[int] = orm.mapped_column(
        sa.BigInteger, sa.Identity(start=1_000_000), primary_key=True
    )
    #: what sends it, as its feature's manifest calls it, and the number of that
    owner_kind: orm.Mapped[str]
    owner_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    #: what it is called where it is spoken of
    name: orm.Mapped[str]
    channel: orm.Mapped[str]
    message_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("messages.id"), index=True)
    edition_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("editions.id"))
    sender_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("senders.id"))
    #: people who said no to this topic on its channel are left alone. None: all of the channel
    topic_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("topics.id"))
    campaign_id: orm.Mapped[int | None] = orm.mapped_column(
        sa.ForeignKey("campaigns.id"), index=True
    )
    #: who may get it, one of the verdict's RULES
    consent_rule: orm.Mapped[str]
    #: the campaign's facts as they were when it left
    facts: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: the numbers of the tags of its campaign and its message
    tags: orm.Mapped[list[int]] = orm.mapped_column(server_default="{}")
    #: higher ones go first
    priority: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    #: whether it waits where people have had as many messages as a limit allows, and whether its
    #: own messages count for that
    obeys_caps: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    counts: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    #: what becomes of people for whom a limit leaves no room, one of NO_ROOM
    no_room: orm.Mapped[str] = orm.mapped_column(server_default="wait")
    #: it goes only to people who are still in its audience when it reaches them
    still_in: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: the time on each person's own clock at which it reaches them (without a zone); empty: as soon
    #: as it may
    local_at: orm.Mapped[dt.datetime | None] = orm.mapped_column(sa.DateTime(timezone=False))
    #: what becomes of people whose time had passed when it started, one of PASSED
    passed: orm.Mapped[str] = orm.mapped_column(server_default="next_day")
    #: the hours within which it reaches people, on their own clock: {} at any hour, or {"from":
    #: "09:00", "to": "17:00", "days": [0, …], "calendar": number of the holidays}
    hours: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: it reaches each person at the hour of the day at which they react most
    best_hour: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: minutes between two portions; 0: all at once
    portion_gap: orm.Mapped[int] = orm.mapped_column(server_default="0")
    #: it is paused when more than this share of what was handed over bounced or brought a
    #: complaint, in %; empty: it goes on
    stop_percent: orm.Mapped[float | None] = orm.mapped_column(sa.REAL)
    #: whom it leaves out because they had it before, one of AGAIN_RULES, and for the campaign's
    #: within how many days
    again_rule: orm.Mapped[str] = orm.mapped_column(server_default="each")
    again_days: orm.Mapped[int] = orm.mapped_column(server_default="30")
    #: the moment until which people wait; empty: there is no such moment
    last_moment: orm.Mapped[dt.datetime | None]
    #: what becomes of people who still wait then, one of AT_LAST
    at_last: orm.Mapped[str] = orm.mapped_column(server_default="drop")
    #: when its audience was settled, or it was opened; every delivery carries it, so that their key
    #: is unique in all months
    taken_at: orm.Mapped[dt.datetime]
    #: running, paused, stopped, done
    state: orm.Mapped[str]
    #: once true, the database refuses to add or remove deliveries
    sealed: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: how many deliveries a sealed one has; set with them in one transaction
    size: orm.Mapped[int | None]
    #: what people do with it is put into `heard`, since somebody waits for it
    heard: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: somebody may still be handed over, or is in doubt: the sweep looks at it, whatever its state
    unsettled: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    #: when people of it were last claimed, and a worker last did something for it, by the
    #: database's own clock
    claimed_at: orm.Mapped[dt.datetime | None]
    moved_at: orm.Mapped[dt.datetime | None]
    finished_at: orm.Mapped[dt.datetime | None]
    #: what keeps its gateway from taking anything, in its words
    problem: orm.Mapped[str] = orm.mapped_column(server_default="")
    __table_args__ = (
        sa.Index("ix_dispatches_owner", "owner_kind", "owner_id"),
        sa.Index("ix_dispatches_unsettled", "id", postgresql_where=sa.text("unsettled")),
    )


class Delivery(Base):
    """One contact by one dispatch, under exactly one outcome. Partitioned by month of the
    dispatch."""

    __tablename__ = "deliveries"
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    dispatch_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    #: tells several to one person by the same dispatch apart
    occurrence: orm.Mapped[int] = orm.mapped_column(primary_key=True, server_default="0")
    #: the dispatch's taken_at
    taken_at: orm.Mapped[dt.datetime] = orm.mapped_column(primary_key=True)
    #: what its links and its gateway know it by, together with the contact
    number: orm.Mapped[int] = orm.mapped_column(
        sa.BigInteger, NUMBERS, server_default=NUMBERS.next_value()
    )
    outcome: orm.Mapped[str] = orm.mapped_column(
        sa.Text,
        sa.CheckConstraint(
            "outcome IN (" + ", ".join(f"'{o}'" for o in OUTCOMES) + ")", name="outcome"
        ),
    )
    #: while it waits: not before; in doubt: when the gateway is asked again, empty when only a
    #: person can tell
    due: orm.Mapped[dt.datetime | None]
    #: the address it went to, as it was then
    address: orm.Mapped[str | None]
    #: when it was handed over
    at: orm.Mapped[dt.datetime | None]
    #: what the gateway said, or what kept it back, in detail
    note: orm.Mapped[str | None]
    #: why it waits or was not sent, with the facts that this stood on: {"because": one of REASONS,
    #: fact: value, …}
    stood_on: orm.Mapped[dict[str, Any] | None]
    #: the values filled in, so that exactly what somebody got can be shown again
    filled: orm.Mapped[dict[str, Any] | None]
    #: details of the event because of which it is sent: event.… in the message
    given: orm.Mapped[dict[str, Any] | None]
    #: the same address is in this audience under an earlier record
    repeated: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: of the control group, settled with the audience
    control: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: in which portion it goes, from 0; empty: there are none
    portion: orm.Mapped[int | None] = orm.mapped_column(sa.SmallInteger)
    #: the hour of the day that was chosen for this person; empty: none was
    hour: orm.Mapped[int | None] = orm.mapped_column(sa.SmallInteger)
    #: how often it was put off, by the gateway or for want of a feed
    tries: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    #: the token of the batch that has it, and since when, by the database's own clock. Free is what
    #: no batch has
    claim: orm.Mapped[uuid.UUID | None]
    claimed_at: orm.Mapped[dt.datetime | None]
    #: how often the gateway was asked about a doubt and did not say
    asked: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    __table_args__ = (
        sa.CheckConstraint("outcome NOT IN ('waiting', 'deferred') OR due IS NOT NULL", name="due"),
        sa.Index("ix_deliveries_dispatch", "dispatch_id", "outcome"),
        sa.Index(
            "ix_deliveries_due",
            "dispatch_id",
            "due",
            postgresql_where=sa.text("outcome IN ('waiting', 'deferred')"),
        ),
        {"postgresql_partition_by": "RANGE (taken_at)"},
    )


class Pace(Base):
    """What a dispatch handed over in one minute of true time, to the addresses of one domain."""

    __tablename__ = "paces"
    dispatch_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("dispatches.id", ondelete="CASCADE"), primary_key=True
    )
    minute: orm.Mapped[dt.datetime] = orm.mapped_column(primary_key=True)
    #: empty: of all others together
    domain: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    handed: orm.Mapped[int]
    #: how many the server asked to send later
    delayed: orm.Mapped[int]
    began: orm.Mapped[dt.datetime]
    ended: orm.Mapped[dt.datetime]


class Batch(Base):
    """Some deliveries of a dispatch in the hands of one worker; or that failed together and are
    tried again."""

    __tablename__ = "batches"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    #: what its deliveries bear
    claim: orm.Mapped[uuid.UUID] = orm.mapped_column(unique=True)
    dispatch_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("dispatches.id", ondelete="CASCADE"), index=True
    )
    #: deliver, or settle what others left under way
    task: orm.Mapped[str]
    begun_at: orm.Mapped[dt.datetime] = orm.mapped_column(server_default=sa.func.clock_timestamp())
    #: how often it failed, when it is tried again, when it last failed, and why
    times: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    not_before: orm.Mapped[dt.datetime | None]
    failed_at: orm.Mapped[dt.datetime | None]
    reason: orm.Mapped[str] = orm.mapped_column(server_default="")


class MessageLimit(Base):
    """How many messages one person may get within a period."""

    __tablename__ = "caps"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    most: orm.Mapped[int] = orm.mapped_column(sa.CheckConstraint("most > 0", name="most"))
    #: so many minutes, days, weeks or months
    length: orm.Mapped[int] = orm.mapped_column(sa.CheckConstraint("length > 0", name="length"))
    unit: orm.Mapped[str] = orm.mapped_column(
        sa.Text,
        sa.CheckConstraint("unit IN ('minute', 'day', 'week', 'month')", name="unit"),
    )
    #: whose messages it is about; empty: those of all channels together
    channel: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: whose tag it is about, with all under it; empty: whatever their tags
    tag_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("tags.id"))
    changed_by: orm.Mapped[str]
    changed_at: orm.Mapped[dt.datetime]
    __table_args__ = (
        sa.Index(
            "uq_caps_of",
            "channel",
            sa.text("coalesce(tag_id, 0)"),
            "unit",
            "length",
            unique=True,
        ),
    )

    def cap(self, paths: Mapping[int, str]) -> Cap:
        """As the rules know it; `paths` are those of all tags, by number."""
        if self.tag_id is None:
            return Cap(self.most, self.length, self.unit, self.channel)
        return Cap(
            self.most,
            self.length,
            self.unit,
            self.channel,
            paths.get(self.tag_id, ""),
            tags.under(self.tag_id, paths),
        )


class SendingRules(Base):
    """What holds for everything that is sent; one row."""

    __tablename__ = "sending_rules"
    id: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, primary_key=True, autoincrement=False)
    #: since when, and by whom, nothing leaves but service messages; empty: everything leaves
    paused_at: orm.Mapped[dt.datetime | None]
    paused_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: service messages wait, too
    pauses_service: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: a send to more people than this needs a second person; empty: none does
    second_person_above: orm.Mapped[int | None]
    #: what people write back comes to us first, is recorded and passed on
    takes_mail: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: after so many soft bounces within so many days an address is not written to any more
    soft_most: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="5")
    soft_days: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="30")
    #: how many messages may leave within a day or a month (allowance_per), as was agreed with
    #: whoever takes them; empty: as many as you like
    allowance: orm.Mapped[int | None]
    allowance_per: orm.Mapped[str] = orm.mapped_column(server_default="month")
    #: how sends are named, with parts in braces (core/naming); empty: no rule
    name_pattern: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: the share of everybody, in %, that gets no marketing at all for as long as one of
    #: HELD_OUT_PERIODS lasts; empty: nobody is kept out
    held_out_percent: orm.Mapped[float | None] = orm.mapped_column(sa.REAL)
    held_out_period: orm.Mapped[str] = orm.mapped_column(server_default="quarter")
    __table_args__ = (
        sa.CheckConstraint("id = 1", name="one"),
        sa.CheckConstraint("second_person_above >= 0", name="above"),
    )


class QuietHours(Base):
    """Hours of the night in which nothing but service messages leaves on a channel, on each
    person's own clock."""

    __tablename__ = "quiet_hours"
    channel: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: minutes of the day
    begins: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger)
    ends: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger)
    #: what becomes of what would leave in them: wait, or drop
    does: orm.Mapped[str] = orm.mapped_column(
        sa.Text, sa.CheckConstraint("does IN ('wait', 'drop')", name="does")
    )
    changed_by: orm.Mapped[str]
    changed_at: orm.Mapped[dt.datetime]

    @property
    def open(self) -> Hours:
        """When messages leave: the hours of the day that are not quiet."""
        return Hours(self.begins, self.ends).opposite()


class BestHours(Base):
    """When one person reacts most, learnt from when they reacted before."""

    __tablename__ = "best_hours"
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), primary_key=True
    )
    #: the hours of the day on their own clock, the best first
    hours: orm.Mapped[list[int]] = orm.mapped_column(sa.ARRAY(sa.SmallInteger))
    #: from how many reactions of their own
    known: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger)


class HabitsLearnt(Base):
    """What was learnt of everybody's hours the last time; one row, or none yet."""

    __tablename__ = "habits"
    id: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, primary_key=True, autoincrement=False)
    learnt_at: orm.Mapped[dt.datetime]
    #: the hours of people who never reacted, the best first
    usual: orm.Mapped[list[int]] = orm.mapped_column(sa.ARRAY(sa.SmallInteger))
    #: how many people are known by their own reactions, and by few of their own
    own: orm.Mapped[int]
    few: orm.Mapped[int]
    #: tried on how many later reactions, what share of them fell near the hour chosen for each
    #: person, and near the one best hour for all
    tested: orm.Mapped[int]
    single_hour: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger)
    single_share: orm.Mapped[float] = orm.mapped_column(sa.REAL)
    own_share: orm.Mapped[float] = orm.mapped_column(sa.REAL)
    __table_args__ = (sa.CheckConstraint("id = 1", name="one"),)


class Holidays(Base):
    """Days on which sends that name them do not go."""

    __tablename__ = "holidays"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: the country whose public holidays they are (ISO 3166-1, or with a part: "GB-SCT"); empty:
    #: days from a file
    country: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: {"2026-12-25": "Christmas Day"}; of a country worked out anew each year
    days: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    changed_by: orm.Mapped[str]
    changed_at: orm.Mapped[dt.datetime]


class Reaction(Base):
    """What a person did with a delivery. Partitioned by month of `at`."""

    __tablename__ = "reactions"
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    at: orm.Mapped[dt.datetime] = orm.mapped_column(primary_key=True)
    dispatch_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    #: the number of the delivery
    delivery: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    #: opened, clicked, replied, unsubscribed, bounced, complained
    kind: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: number of the link in the edition, for clicks
    link: orm.Mapped[int | None] = orm.mapped_column(sa.SmallInteger)
    #: true when a program opened or clicked, not a person
    machine: orm.Mapped[bool]
    #: why we think so, or the words of a bounce
    note: orm.Mapped[str]
    __table_args__ = (
        sa.Index("ix_reactions_dispatch", "dispatch_id", "kind", "contact_id"),
        sa.Index("ix_reactions_contact", "contact_id", "at"),
        {"postgresql_partition_by": "RANGE (at)"},
    )
