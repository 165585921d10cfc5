"""What a send did: every number leads to the people behind it, and all of it can be downloaded."""

import datetime as dt
import io
from typing import Any

import flask
import openpyxl
from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

from meadowrun.base import audit
from meadowrun.campaigns.actions import campaigns
from meadowrun.campaigns.models import Campaign
from meadowrun.core.channels import KINDS
from meadowrun.core.formulas import harmless
from meadowrun.core.guardrails.outcomes import OUTCOMES, WORDS, words_for
from meadowrun.core.language import Wording, in_language
from meadowrun.core.results.worth import Worth
from meadowrun.core.values import is_whole
from meadowrun.core.wording import month as month_words
from meadowrun.core.wording import share, weekday_time
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing.in_app_messages import tally as in_app_tally
from meadowrun.people.models import Topic
from meadowrun.people.tagged import asked
from meadowrun.results import looking, queries
from meadowrun.results.leading_on import SEGMENTS
from meadowrun.results.looking import Narrowed
from meadowrun.sends.models import Send
from meadowrun.sends.queries import channel_of, control_named
from meadowrun.sends.queries import send as get_send
from meadowrun.shell.accounts import may
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    now,
    reports,
    rows_as_csv,
    settings,
    zone,
)

pages = flask.Blueprint("results", __name__)
NAMES = {
    **WORDS,
    "audience": Wording("Audience"),
    "opened": Wording("Opened"),
    "machine_only": Wording("Opened by a machine only"),
    "clicked": Wording("Clicked"),
    "converted": Wording("Success"),
    "control_converted": Wording("Control group, and success all the same"),
    "not_opened": Wording("Did not open"),
    "not_clicked": Wording("Did not click"),
    "unsubscribed": Wording("Unsubscribed"),
    "complained": Wording("Complained"),
    "replied": Wording("Replied"),
}
PAGE = 100


@pages.get("/results")
def table() -> Answer:
    """All sends that went out: narrowed, sorted, added up, and by month."""
    args = flask.request.args
    months = looking.months(db(), zone())
    number, _, under = asked()
    narrowed = Narrowed(
        args["month"] if args.get("month") in months else "",
        args["channel"] if args.get("channel") in CHANNELS else "",
        int(args["campaign"]) if is_whole(args.get("campaign", "")) else 0,
        under,
    )
    sort = args["sort"] if args.get("sort") in looking.SORTS else "sent"
    down = args.get("down", "yes") != "no"
    rows = looking.rows(db(), narrowed, zone(), sort, down)
    by_month = looking.by_month(rows, zone())
    return flask.render_template(
        "results/table.html",
        rows=rows,
        most=looking.MOST,
        total=looking.total(rows),
        by_month=by_month,
        points=[
            (in_language(month_words(month.first)), month.delivered, month.opened, month.clicked)
            for month in by_month
        ],
        narrowed=narrowed,
        tag=number,
        sort=sort,
        down=down,
        heads=HEADS,
        months=[(month, dt.date.fromisoformat(f"{month}-01")) for month in months],
        channels={key: one.kind.name for key, one in CHANNELS.items()},
        campaigns=campaigns(db()),
    )


#: The heads of the table: what it is sorted by, what it is called, and whether it is a number.
HEADS = (
    ("name", Wording("Send"), False),
    ("sent", Wording("Sent"), False),
    ("audience", Wording("Audience"), True),
    ("delivered", Wording("Delivered"), True),
    ("opened", Wording("Opened"), True),
    ("clicked", Wording("Clicked"), True),
    ("success", Wording("Success"), True),
    ("unsubscribed", Wording("Unsubscribed"), True),
)


def _taken(ident: int) -> Send | None:
    send = get_send(db(), ident)
    return send if send.taken_at is not None else None


@pages.get("/results/<int:ident>")
@comes_later("Counting what this send did")
def show(ident: int) -> Answer:
    send = _taken(ident)
    if send is None:
        return done(
            "sends.show", "It has not been sent yet; its result comes afterwards.", ident=ident
        )
    result = queries.result(db(), send, now(), reports())
    kind = result.success
    channel = channel_of(db(), send)
    said, waits = CHANNELS[channel].steps, CHANNELS[channel].waits_there
    steps = [
        (key, said[key], getattr(result, key))
        for key in ("delivered", "opened", "clicked")
        if key in said and (key != "clicked" or result.links or result.clicked)
    ]
    if kind is not None:
        steps.append(("converted", kind.did[0].upper() + kind.did[1:], result.converted))
    # Whether people opened is not told on every channel: of those nobody can be followed up by it.
    silent = [
        (f"not_{key}", result.delivered - getattr(result, key))
        for key, _, _ in steps
        if key in ("opened", "clicked")
    ]
    points = []
    for index, (at, *counts) in enumerate(result.timeline):
        here = at.astimezone(zone())
        every = 6 if len(result.timeline) > 24 else 4
        label = weekday_time(here) if index % every == 0 else ""
        points.append((label, *counts))
    words_of = words_for(channel)
    # Who would get it has got it, as far as all went well.
    was = {("delivered" if key == "go" else key): n for key, n in send.foreseen.items()}
    return flask.render_template(
        "results/show.html",
        send=send,
        was=was,
        foreseen=[(key, words_of[key], was[key]) for key in OUTCOMES if was.get(key)],
        campaign=db().get(Campaign, send.campaign_id),
        result=result,
        steps=steps,
        silent=[(key, NAMES[key], people) for key, people in silent if people > 0],
        points=points,
        channel=channel,
        is_mail=KINDS[channel].mail,
        in_app_messages=in_app_tally(db(), send.dispatch_id) if waits else None,
        words_of=words_of,
        control_group=control_named(db(), send),
        said={
            key: text.lower() for key, text in (dict(CHANNELS["email"].steps) | dict(said)).items()
        },
        topic=db().get(Topic, send.topic_id) if send.topic_id else None,
    )


@pages.get("/results/<int:ident>/people/<what>")
def behind(ident: int, what: str) -> Answer:
    """The people behind a number."""
    send = _taken(ident)
    if send is None or queries.people_sql(what) is None:
        flask.abort(404)
    after, channel = flask.request.args.get("after", "0"), channel_of(db(), send)
    rows = queries.people_behind(db(), send, what, PAGE + 1, int(after) if is_whole(after) else 0)
    return flask.render_template(
        "results/behind.html",
        send=send,
        what=what,
        name=_name(send, what),
        rows=rows[:PAGE],
        total=queries.count_behind(db(), send, what),
        words_of=words_for(channel),
        channel=channel,
        asked=CHANNELS[channel].can_be_asked(settings()),
        after=rows[PAGE - 1].id if len(rows) > PAGE else None,
        living=what in SEGMENTS,
    )


def _name(send: Send, what: str) -> str:
    """What a number is called, in the words of the send's channel."""
    channel = channel_of(db(), send)
    names = NAMES | words_for(channel) | dict(CHANNELS[channel].steps)
    if what.startswith("link"):
        found = next(
            (x for x in queries.result(db(), send, now()).links if x.number == int(what[4:])), None
        )
        return f"{names['clicked']} “{found.label}”" if found else names["clicked"]
    return names[what]


def _sheets(send: Send) -> list[tuple[str, list[list[Any]]]]:
    """The result as named tables of rows, the first row of each its head."""
    result, channel = queries.result(db(), send, now(), reports()), channel_of(db(), send)
    seen = CHANNELS[channel].steps
    links = [["Link", "Address", "People", "Clicks", "Share of those who clicked"]] + [
        [x.label, x.href, x.people, x.clicks, share(x.people, result.clicked)] for x in result.links
    ]
    steps = [name for name in (seen.get("opened"), seen["clicked"], "Success") if name]
    first = 0 if "opened" in seen else 1
    times = [["From", *(f"{name}, first" for name in steps)]] + [
        [f"{at.astimezone(zone()):%Y-%m-%d %H:%M}", *counts[first:]]
        for at, *counts in result.timeline
    ]
    return [
        ("Summary", _summary(send, result, channel)),
        ("Links", links),
        ("Over time", times),
    ]


def _summary(send: Send, result: queries.Result, channel: str) -> list[list[Any]]:
    """Outcomes, reactions, success and what sending was worth, each with its base and its share."""
    words, seen = words_for(channel), CHANNELS[channel].steps
    rows: list[list[Any]] = [["Measure", "People", "Of", "Share"]]
    for outcome, count in result.tally.items():
        rows.append([words[outcome], count, "audience", share(count, result.audience)])
    rows.append(["Audience", result.audience, "", ""])
    reactions = [
        (seen["clicked"], result.clicked),
        ("Unsubscribed", result.unsubscribed),
        ("Complained", result.complained),
        ("Replied", result.replied),
    ]
    if "opened" in seen:
        reactions[:0] = [
            (seen["opened"], result.opened),
            ("Opened by a machine only", result.machine_only),
        ]
    if result.success is not None:
        success = f"Success: {result.success.did} within {send.success_days} days"
        reactions.append((success, result.converted))
    for name, count in reactions:
        rows.append([name, count, "delivered", share(count, result.delivered)])
    return rows + (_worth(result.worth) if result.worth is not None else [])


def _worth(worth: Worth) -> list[list[Any]]:
    """What sending did, beside those to whom nothing was sent."""
    rows: list[list[Any]] = []
    for name, of, group in (
        ("among those contacted", "contacted", worth.written),
        ("in the control group", "control group", worth.control),
    ):
        rate = share(group.succeeded, group.people, 2)
        rows.append([f"Success {name}", group.succeeded, of, rate])
    bounds = (f"{100 * value:+.2f}" for value in (worth.gain, worth.low, worth.high))
    rows.append(["Difference in points, and its bounds in 95 of 100 cases", *bounds])
    return rows


@pages.get("/results/<int:ident>.csv")
def as_csv(ident: int) -> Answer:
    send = _taken(ident)
    if send is None:
        flask.abort(404)
    rows = [row for name, table in _sheets(send) for row in ([name], *table, [])]
    return rows_as_csv(rows, f"result-{ident}")


def _cell(value: Any) -> Any:
    """A value for a spreadsheet: no text is run as a formula, and what no file of that kind can
    hold is left out."""
    return harmless(ILLEGAL_CHARACTERS_RE.sub("", value)) if isinstance(value, str) else value


def _people(book: openpyxl.Workbook, send: Send) -> None:
    """Everybody of the send, for those who may take people along."""
    people = book.create_sheet("People")
    people.append(["Contact", "First name", "Last name", "Address", "Outcome", "Note"])
    after = 0
    while rows := queries.people_behind(reports(), send, "audience", 5000, after):
        for r in rows:
            people.append(
                [
                    _cell(value)
                    for value in (
                        r.id,
                        r.first_name,
                        r.last_name,
                        r.email,
                        WORDS[r.outcome],
                        r.note,
                    )
                ]
            )
        after = rows[-1].id
    audit.record(
        db(), actor(), now(), "downloaded", "send", send.id, send.name, people=people.max_row - 1
    )


@pages.get("/results/<int:ident>.xlsx")
def as_xlsx(ident: int) -> Answer:
    send = _taken(ident)
    if send is None:
        flask.abort(404)
    book = openpyxl.Workbook()
    book.remove(book.worksheets[0])
    for name, rows in _sheets(send):
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append([_cell(value) for value in row])
        sheet.column_dimensions["A"].width = 34
    if may(actor(), "author"):
        _people(book, send)
    out = io.BytesIO()
    book.save(out)
    return flask.Response(
        out.getvalue(),
        headers={"Content-Disposition": f'attachment; filename="result-{ident}.xlsx"'},
        mimetype="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    )
