"""Sends: one message to an audience, at one moment."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base
from meadowrun.outgoing.models import Dispatch


class Send(Base):
    __tablename__ = "sends"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    campaign_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("campaigns.id"), index=True)
    name: orm.Mapped[str]
    #: draft, planned, taking (settling the audience); then its dispatch's: running, paused, done,
    #: stopped
    state: orm.Mapped[str]
    #: grows with each change of the sheet, so that two authors never overwrite each other
    version: orm.Mapped[int] = orm.mapped_column(server_default="1")
    #: {"in": [{"segment": id} | {"list": id}], "out": [...]}; an empty "in" means nobody was named
    #: yet
    audience: orm.Mapped[dict[str, Any]]
    message_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("messages.id"))
    #: which state of the message it gives people: “approved” (the newest draft while nothing is),
    #: or the “newest” draft
    takes: orm.Mapped[str] = orm.mapped_column(server_default="approved")
    edition_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("editions.id"))
    #: the campaign's facts as they were when it was started: what was sent stays as it was
    facts: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    sender_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("senders.id"))
    #: the topic it belongs to: people who said no to it on its channel are left alone. None: all of
    #: the channel
    topic_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("topics.id"))
    #: who may get it, one of the verdict's RULES
    consent_rule: orm.Mapped[str] = orm.mapped_column(server_default="agreed")
    #: the most people it may reach; empty: everybody who may get it
    audience_limit: orm.Mapped[int | None]
    #: what happens above it, one of LIMIT_RULES: so many are picked by chance, or nothing goes
    limit_rule: orm.Mapped[str] = orm.mapped_column(server_default="some")
    #: the control group: {}, {"percent": 10.0}, {"segment": id} or {"list": id}
    control: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: the moment it goes, empty: as soon as it is started
    leaves_at: orm.Mapped[dt.datetime | None]
    #: the time on each person's own clock (without a zone); empty: `leaves_at` is for all at once
    local_at: orm.Mapped[dt.datetime | None] = orm.mapped_column(sa.DateTime(timezone=False))
    #: what becomes of people whose time has passed when it starts, one of PASSED
    passed: orm.Mapped[str] = orm.mapped_column(server_default="next_day")
    #: when a planned one starts: its moment, or when that comes first on anybody's clock
    begins_at: orm.Mapped[dt.datetime | None]
    #: by which rule it repeats (RFC 5545), from `leaves_at` on; empty: it goes once
    rhythm: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: it repeats no more once a date of it reached nobody
    ends_empty: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: its next date, as the clock it goes by shows it
    next_local: orm.Mapped[dt.datetime | None] = orm.mapped_column(sa.DateTime(timezone=False))
    #: how many of its dates passed without a send, since nothing worked then
    missed: orm.Mapped[int] = orm.mapped_column(server_default="0")
    #: the send of which this is one date
    repeats_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("sends.id"))
    #: the hours within which it reaches people, on their own clock, as a dispatch keeps them
    hours: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: it reaches each person at the hour of the day at which they react most
    best_hour: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: how many people go together, and how many minutes after each other; empty: all at once
    portion_size: orm.Mapped[int | None]
    portion_gap: orm.Mapped[int] = orm.mapped_column(server_default="30")
    #: the share of bounces and complaints above which its portions stop, in %; empty: they go on
    stop_percent: orm.Mapped[float | None] = orm.mapped_column(sa.REAL)
    #: whom it leaves out because they had it before, one of AGAIN_RULES, and for the campaign's
    #: within how many days
    again_rule: orm.Mapped[str] = orm.mapped_column(server_default="each")
    again_days: orm.Mapped[int] = orm.mapped_column(server_default="30")
    #: whether it waits where people have had as many messages as a limit allows, and whether its
    #: messages count for that
    obeys_caps: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    counts: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    #: what becomes of people for whom a limit leaves no room, one of NO_ROOM
    no_room: orm.Mapped[str] = orm.mapped_column(server_default="wait")
    #: it goes only to people who are still in its audience when it reaches them
    still_in: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: hours from its start until which people wait, or the moment until which they do where one is
    #: named; and what happens to people who still wait then, one of AT_LAST
    within_hours: orm.Mapped[int] = orm.mapped_column(server_default="168")
    ends_at: orm.Mapped[dt.datetime | None]
    at_last: orm.Mapped[str] = orm.mapped_column(server_default="drop")
    #: the zone in which that moment was named
    zone: orm.Mapped[str]
    #: what counts as success: an event kind's key, within so many days of getting it
    success_event: orm.Mapped[str | None]
    success_days: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="7")
    #: what leaves by it, from the moment on at which its audience was settled
    dispatch_id: orm.Mapped[int | None] = orm.mapped_column(
        sa.ForeignKey("dispatches.id"), index=True
    )
    #: what would have become of everybody when it was looked at last before it was started: outcome
    #: ("go" for who would get it) → people
    foreseen: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: when its audience was settled: the dispatch's taken_at
    taken_at: orm.Mapped[dt.datetime | None]
    finished_at: orm.Mapped[dt.datetime | None]
    #: who asked a second person to approve it, when, as of which version and for how many people
    asked_by_id: orm.Mapped[int | None] = orm.mapped_column(
        sa.ForeignKey("users.id", ondelete="SET NULL")
    )
    asked_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    asked_at: orm.Mapped[dt.datetime | None]
    asked_version: orm.Mapped[int | None]
    asked_people: orm.Mapped[int | None]
    #: who approved it; or who did not, and why
    approved_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    refused_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    refused_why: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: why a start failed, for the sheet to show
    problem: orm.Mapped[str] = orm.mapped_column(server_default="")
    created_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
    started_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    dispatch: orm.Mapped[Dispatch | None] = orm.relationship(lazy="selectin")
    __table_args__ = (
        sa.Index(
            "ix_sends_repeats_id",
            "repeats_id",
            postgresql_where=sa.text("repeats_id IS NOT NULL"),
        ),
        sa.Index("ix_sends_due", "begins_at", postgresql_where=sa.text("state = 'planned'")),
    )

    @property
    def is_asked(self) -> bool:
        """Whether it waits for a second person; whoever changes it has to ask again."""
        return self.state == "draft" and self.asked_version == self.version

    @property
    def audience_size(self) -> int | None:
        """How many people its audience has, once that is settled."""
        return self.dispatch.size if self.dispatch else None

    @property
    def trouble(self) -> str:
        """Why a start failed, or what keeps the gateway from taking anything."""
        return self.problem or (self.dispatch.problem if self.dispatch else "")
