"""Telling people by email what waits for them, where they wish it. Written down in the transaction
that makes it wait; sent by the worker."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import GatewayUnavailable
from meadowrun.base.logs import log
from meadowrun.base.settings import Settings
from meadowrun.gateways.email import Letter
from meadowrun.gateways.handing import Gateway
from meadowrun.shell.models import User

#: What is not taken after so many tries, with growing gaps between them, is given up: Today shows
#: it in any case.
MOST_TRIES = 8
_NOTE = """INSERT INTO told (user_id, about, subject, body, path, at, next_at)
SELECT u.id, :about, :subject, :body, :path, :now, :now FROM users u WHERE u.id = :user
AND (u.told OR :always) AND u.active
ON CONFLICT (user_id, about) DO NOTHING"""
_SAFETY = "sign-in:"
_DUE = """SELECT t.id, t.about, t.subject, t.body, t.path, t.at, t.tries, u.email, u.name
FROM told t
JOIN users u ON u.id = t.user_id
WHERE t.done_at IS NULL AND t.next_at <= :now AND u.active ORDER BY t.id
LIMIT 50 FOR UPDATE OF t SKIP LOCKED"""
_DONE = "UPDATE told SET done_at = :now, tries = tries + 1 WHERE id = :id"
_LATER = """UPDATE told SET tries = tries + 1, next_at = :now + make_interval(mins => CAST(power(2,
tries) AS int)),
    done_at = CASE WHEN tries + 1 >= :most THEN CAST(:now AS timestamptz) END WHERE id = :id"""


def tell(
    session: orm.Session,
    now: dt.datetime,
    user_id: int,
    about: str,
    subject: str,
    body: str,
    path: str,
    always: bool = False,
) -> None:
    """Has somebody told, where they wish it, or `always`; once for each `about`. `path` is the page
    where it is done."""
    session.execute(
        sa.text(_NOTE),
        {
            "user": user_id,
            "about": about,
            "subject": subject,
            "body": body,
            "path": path,
            "now": now,
            "always": always,
        },
    )


def tell_always(
    session: orm.Session,
    now: dt.datetime,
    user_id: int,
    subject: str,
    body: str,
    path: str,
    about: str = "",
) -> None:
    """Has somebody told of what is about safety, whether they wish it or not; once for each
    `about`, where one is given."""
    tell(
        session,
        now,
        user_id,
        _SAFETY + (about or f"{now.isoformat()}:{subject}"),
        subject,
        body,
        path,
        always=True,
    )


def named(session: orm.Session, name: str) -> int:
    """The number of the colleague of a name; 0 where there is none."""
    return (
        session.scalar(
            sa.select(User.id)
            .where(User.name == name)
            .order_by(User.active.desc(), User.id)
            .limit(1)
        )
        or 0
    )


def send_due(session: orm.Session, gateway: Gateway, settings: Settings, now: dt.datetime) -> int:
    """Sends what is to be told; the number that left. What the gateway does not take is tried again
    later."""
    rows = {row.id: row for row in session.execute(sa.text(_DUE), {"now": now})}
    taken = set()
    try:
        for handed in gateway.hand_over([_letter(row, settings) for row in rows.values()]):
            if handed.outcome == "delivered":
                taken.add(handed.contact_id)
            else:
                log.warning(
                    "a colleague could not be told", outcome=handed.outcome, note=handed.note
                )
    except GatewayUnavailable as problem:
        log.warning("colleagues could not be told", reason=str(problem))
    for ident in rows:
        done = ident in taken
        session.execute(
            sa.text(_DONE if done else _LATER),
            {"id": ident, "now": now} | ({} if done else {"most": MOST_TRIES}),
        )
    return len(taken)


def _letter(row: sa.Row[tuple[object, ...]], settings: Settings) -> Letter:
    key = f"told-{row.id}"
    why = (
        "You are always told of this: it is about who gets in."
        if str(row.about).startswith(_SAFETY)
        else "You asked for this under your name in Meadowrun, and can end it there."
    )
    text = f"{row.name},\n\n{row.body}\n\n{settings.public_url}{row.path}\n\n{why}\n"
    return Letter(
        key=key,
        contact_id=row.id,
        from_name=settings.organisation,
        from_address=f"meadowrun@{settings.mail_domain}",
        reply_to="",
        to=row.email,
        return_path=f"told@{settings.mail_domain}",
        subject=row.subject,
        html="",
        text=text,
        date=row.at.timestamp(),
        message_id=f"<{key}@{settings.mail_domain}>",
    )
