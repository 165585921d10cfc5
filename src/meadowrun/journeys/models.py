"""Journeys, their drafts and editions, the people on them, and every move those made."""

import datetime as dt
import decimal
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base
from meadowrun.core.language import Wording

#: How a journey can stand, and what that is called.
STATES = {
    "draft": Wording("Draft"),
    "running": Wording("Running"),
    "paused": Wording("Paused"),
    "winding_down": Wording("Winding down"),
    "ended": Wording("Ended"),
}
#: States in which people move.
MOVES = ("running", "winding_down")


class Journey(Base):
    """Steps that each contact walks through in their own time."""

    __tablename__ = "journeys"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    campaign_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("campaigns.id"), index=True)
    name: orm.Mapped[str]
    state: orm.Mapped[str] = orm.mapped_column(
        sa.Text, sa.CheckConstraint(f"state IN {tuple(STATES)}", name="state")
    )
    #: the edition that people walk; empty: it was never started
    edition: orm.Mapped[int | None]
    #: number of the draft that is being written: one before it once a change is undone
    draft: orm.Mapped[int] = orm.mapped_column(server_default="1")
    #: grows with every change, so that nobody overwrites what they have not seen
    version: orm.Mapped[int] = orm.mapped_column(server_default="1")
    sender_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("senders.id"))
    topic_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("topics.id"))
    #: who may get its messages, one of the verdict's RULES
    consent_rule: orm.Mapped[str] = orm.mapped_column(server_default="agreed")
    #: the hours within which its messages go, as a dispatch keeps them
    hours: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: it pauses itself where more than a share of what it sent within a day bounced, led to
    #: complaints or could not be filled in, in percent, or more people came in within an hour;
    #: empty: never
    most_bounces: orm.Mapped[float | None] = orm.mapped_column(server_default="5")
    most_complaints: orm.Mapped[float | None] = orm.mapped_column(server_default="0.3")
    most_unfilled: orm.Mapped[float | None] = orm.mapped_column(server_default="5")
    most_an_hour: orm.Mapped[int | None]
    #: when the next person may come in where so many do within an hour
    door_free_at: orm.Mapped[dt.datetime | None]
    #: when somebody last had it go on: what was before is not held against it any more
    resumed_at: orm.Mapped[dt.datetime | None]
    #: what keeps people from moving, in words; empty: nothing
    problem: orm.Mapped[str] = orm.mapped_column(server_default="")
    created_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
    started_at: orm.Mapped[dt.datetime | None]
    started_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    ended_at: orm.Mapped[dt.datetime | None]

    @property
    def salt(self) -> str:
        """By which chance is the same for a person on it each time."""
        return f"journey {self.id}"


class JourneyDraft(Base):
    """One state of an itinerary while it is written."""

    __tablename__ = "journey_drafts"
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True
    )
    number: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    itinerary: orm.Mapped[dict[str, Any]]
    #: what was changed, in words
    did: orm.Mapped[str]
    by: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]


class JourneyEdition(Base):
    """An itinerary that people walked. Never changes."""

    __tablename__ = "journey_editions"
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True
    )
    number: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    itinerary: orm.Mapped[dict[str, Any]]
    by: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]


class JourneyDispatch(Base):
    """What a step sends: a dispatch for each edition of the message."""

    __tablename__ = "journey_dispatches"
    dispatch_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("dispatches.id", ondelete="CASCADE"), primary_key=True
    )
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE")
    )
    step: orm.Mapped[str]
    #: it goes to testers, and is counted nowhere
    tester: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    __table_args__ = (sa.Index("ix_journey_dispatches_step", "journey_id", "step"),)


class JourneyTester(Base):
    """A contact who tries a journey."""

    __tablename__ = "journey_testers"
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True
    )
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    #: how long each of their waits may take, in seconds; empty: as long as for everybody
    most_wait: orm.Mapped[int | None]
    by: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]


class JourneyEntry(Base):
    """One time that one contact is on a journey, from coming in to the end."""

    __tablename__ = "journey_entries"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE")
    )
    #: stays when the contact is erased, and then leads to nobody
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    began_at: orm.Mapped[dt.datetime]
    #: the step they are on; empty: they are not on one any more
    step: orm.Mapped[str]
    arrived_at: orm.Mapped[dt.datetime]
    #: due: the step is to be done; waiting: a time is waited for; awaiting: something is waited
    #: for; sending: a message is on its way; calling: another server is to answer; over
    phase: orm.Mapped[str] = orm.mapped_column(
        sa.Text,
        sa.CheckConstraint(
            "phase IN ('due', 'waiting', 'awaiting', 'sending', 'calling', 'over')", name="phase"
        ),
    )
    #: when the entry is looked at next; empty: not before something happens
    due: orm.Mapped[dt.datetime | None]
    #: how long the message of this step may wait
    hold_until: orm.Mapped[dt.datetime | None]
    #: the delivery on its way, with its dispatch; and the last one that was handed over
    dispatch_id: orm.Mapped[int | None] = orm.mapped_column(sa.BigInteger)
    delivery: orm.Mapped[int | None] = orm.mapped_column(sa.BigInteger)
    sent_delivery: orm.Mapped[int | None] = orm.mapped_column(sa.BigInteger)
    #: which of the messages of this step is tried, the first being 0
    attempt: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    #: of the control group: settled as they came in
    control: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: inside, finished, or left before the end
    state: orm.Mapped[str] = orm.mapped_column(
        sa.Text,
        sa.CheckConstraint("state IN ('inside', 'finished', 'left')", name="state"),
        server_default="inside",
    )
    #: why they are not inside any more: end, exit, jumped, goal, withdrew, removed, failed,
    #: by_hand, merged, erased, ended, the id of an exit rule, or why a message was not sent
    because: orm.Mapped[str] = orm.mapped_column(server_default="")
    ended_at: orm.Mapped[dt.datetime | None]
    #: when they reached the goal
    goal_at: orm.Mapped[dt.datetime | None]
    #: what that brought, by the event
    goal_amount: orm.Mapped[decimal.Decimal | None]
    #: what this time is about, by the detail that tells times apart; empty: the person alone
    subject: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: which of its starts brought them in; empty: by hand, or from another journey
    start: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: the lane that they are in; empty: the first one
    lane: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: they try it: kept out of all figures, and each wait takes at most so many seconds
    tester: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    most_wait: orm.Mapped[int | None]
    #: what the event said that brought them in
    details: orm.Mapped[dict[str, Any] | None]
    __table_args__ = (
        # By journey first: who is overdue on a paused one is not read again with each look.
        sa.Index(
            "ix_journey_entries_due",
            "journey_id",
            "due",
            "id",
            postgresql_where=sa.text("due IS NOT NULL"),
        ),
        sa.Index("ix_journey_entries_contact", "contact_id", "journey_id"),
        sa.Index("ix_journey_entries_step", "journey_id", "step", "state", "arrived_at"),
        sa.Index(
            "ix_journey_entries_began",
            "began_at",
            postgresql_using="brin",
            postgresql_with={"autosummarize": "on"},
        ),
        sa.Index(
            "ix_journey_entries_goal",
            "goal_at",
            postgresql_where=sa.text("goal_at IS NOT NULL"),
        ),
        sa.Index(
            "ix_journey_entries_sending",
            "delivery",
            postgresql_where=sa.text("phase = 'sending'"),
        ),
        sa.Index("ix_journey_entries_calling", "id", postgresql_where=sa.text("phase = 'calling'")),
        sa.Index(
            "uq_journey_entries_inside",
            "journey_id",
            "contact_id",
            "lane",
            "subject",
            unique=True,
            postgresql_where=sa.text("state = 'inside'"),
        ),
        {"postgresql_with": {"fillfactor": "70"}},
    )


class JourneyMove(Base):
    """One move of one entry, written in the transaction that made it."""

    __tablename__ = "journey_moves"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    #: of an entry that there is: the database asks it once for each statement
    entry_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, index=True)
    #: when it happened in the person's own time: when a wait was over, not when that was seen
    at: orm.Mapped[dt.datetime]
    from_step: orm.Mapped[str]
    #: empty: out of the journey
    to_step: orm.Mapped[str]
    #: why: start, time, sent, refused, the id of the path that was taken, …
    because: orm.Mapped[str]
    #: the message that was asked for on the step they left
    delivery: orm.Mapped[int | None] = orm.mapped_column(sa.BigInteger)


class JourneyCount(Base):
    """How many entries were added to, or taken from, those that stand in one way: the sum of all
    rows is how many do. Kept by the database; testers are not counted."""

    __tablename__ = "journey_counts"
    #: no primary key in the database: the same may be added twice
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    lane: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    start: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: empty: not inside
    step: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    state: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    because: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    people: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    #: how many of them reached the goal, and what that brought
    reached: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    amount: orm.Mapped[decimal.Decimal]


class JourneyWent(Base):
    """How many moves were made away from a step (empty: into the journey) for a reason, and how
    many of those people left before the end: the sum of all rows. Kept by the database; testers
    are not counted."""

    __tablename__ = "journey_went"
    #: no primary key in the database either
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    step: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    because: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    people: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    out: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)


class JourneyWatch(Base):
    """When a journey was last looked at for what no event tells."""

    __tablename__ = "journey_watches"
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True
    )
    looked_at: orm.Mapped[dt.datetime]
    #: when everybody was asked about the last time, and how many seconds that took
    counted_at: orm.Mapped[dt.datetime | None]
    seconds: orm.Mapped[float]
    #: what is stored about people that it goes by (core/audience/turning.py)
    sources: orm.Mapped[list[str]] = orm.mapped_column(server_default="{}")
    #: why people could not be asked then; empty: they could
    problem: orm.Mapped[str] = orm.mapped_column(server_default="")


class JourneySeen(Base):
    """Of whom what a start asks was true when it was last looked at; or when an exit rule was."""

    __tablename__ = "journey_seen"
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True
    )
    #: the id of the start, or of the exit rule behind “exit ”
    start: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: what was asked
    stamp: orm.Mapped[str]
    #: of whom it was true: a set of numbers, as Roaring writes it; of exit rules nobody is kept.
    #: Read only where it is wanted: of a million people it is large
    members: orm.Mapped[bytes] = orm.mapped_column(deferred=True)
    #: what it came to in full, with all that its conditions name
    asked: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: when it was last known of everybody
    as_of: orm.Mapped[dt.datetime | None]
    #: everybody has to be asked about again
    owed: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())


class JourneyDay(Base):
    """The last day on a clock whose dates have brought people in."""

    __tablename__ = "journey_days"
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True
    )
    #: the id of the start
    start: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: the name of a time zone; empty: the organisation's
    zone: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    day: orm.Mapped[dt.date]


class JourneyCall(Base):
    """One call of another server, for one entry on one step."""

    __tablename__ = "journey_calls"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    entry_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journey_entries.id", ondelete="CASCADE"), index=True
    )
    journey_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    step: orm.Mapped[str]
    address: orm.Mapped[str]
    #: by which the other side tells two calls for the same thing
    key: orm.Mapped[str] = orm.mapped_column(unique=True)
    state: orm.Mapped[str] = orm.mapped_column(
        sa.Text,
        sa.CheckConstraint("state IN ('waiting', 'done', 'failed')", name="state"),
        server_default="waiting",
    )
    next_at: orm.Mapped[dt.datetime]
    tries: orm.Mapped[int] = orm.mapped_column(server_default="0")
    #: what came back: the status, the words beside it, and the beginning of the answer
    status: orm.Mapped[int | None]
    said: orm.Mapped[str] = orm.mapped_column(server_default="")
    answer: orm.Mapped[str] = orm.mapped_column(server_default="")
    done_at: orm.Mapped[dt.datetime | None]
    __table_args__ = (
        sa.Index(
            "ix_journey_calls_waiting", "next_at", postgresql_where=sa.text("state = 'waiting'")
        ),
        sa.Index("ix_journey_calls_step", "journey_id", "step", "done_at"),
    )


class JourneyRefusal(Base):
    """How many starts were refused for a reason."""

    __tablename__ = "journey_refusals"
    journey_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("journeys.id", ondelete="CASCADE"), primary_key=True
    )
    because: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    times: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
