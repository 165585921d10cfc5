"""Something we sent, on whatever channel, and the outcome."""

import datetime as dt
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from meadowrun.core import wording
from meadowrun.core.audience.dates import rolling
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.kind import NUMBER, Json, Kind, Reading
from meadowrun.core.audience.nodes import MailLine, Span
from meadowrun.core.audience.operands import member
from meadowrun.core.audience.persons import SENT, Mail, Person
from meadowrun.core.audience.saying import Part
from meadowrun.core.audience.spans import SPAN, read_span, span_words, within, write_span
from meadowrun.core.audience.turning import DELIVERIES, REACTIONS, Turning
from meadowrun.core.channels import CHANNEL_WORDS, KINDS
from meadowrun.core.language import Wording

if TYPE_CHECKING:
    from meadowrun.core.audience.judge import Judge

#: what came of a mail → (did, did not)
MAIL_WORDS = {
    "sent": ("was sent", "was not sent"),
    "delivered": ("received", "did not receive"),
    "opened": ("opened", "did not open"),
    "clicked": ("clicked in", "did not click in"),
    "replied": ("replied to", "did not reply to"),
    "bounced": ("bounced", "did not bounce"),
    "complained": ("complained about", "did not complain about"),
    "unsubscribed": ("unsubscribed from", "did not unsubscribe from"),
    "converted": ("did what counts as success after", "did not do what counts as success after"),
}
#: What counts only where a person did it, not a program.
BY_PEOPLE = ("opened", "clicked", "replied")
#: what a line may name by number: which message
NAMED_BY = ("message", "campaign", "send", "tag")
#: A tag by its number or path.
TAG: Json = {
    "description": "A tag by its number or path; those inside it count, too",
    "oneOf": [NUMBER, {"type": "string"}],
}
_OF: Json = {
    "type": "object",
    "maxProperties": 1,
    "additionalProperties": False,
    "properties": {"message": NUMBER, "campaign": NUMBER, "send": NUMBER, "tag": TAG},
}
_UP_TO_1000: Json = {"type": "integer", "minimum": 1, "maximum": 1000}


class MailKind(Kind[MailLine]):
    key = "mail"
    required = ("what",)

    def members(self) -> Json:
        channels: Json = {"channel": {"enum": list(CHANNEL_WORDS)}}
        return {
            "what": {"enum": list(MAIL_WORDS)},
            "did": {"type": "boolean", "default": True},
            "span": SPAN,
            "among": {"enum": ["sent", "everyone"]},
            "times": _UP_TO_1000,
            "latest": _UP_TO_1000,
            "link": {"type": "integer", "minimum": 0},
            "of": {**_OF, "properties": _OF["properties"] | channels},
        }

    def read(self, data: Mapping[str, Any], line: Reading) -> MailLine:
        what, among, times = data.get("what"), data.get("among", "sent"), data.get("times", 1)
        if what not in tuple(MAIL_WORDS):
            raise line.wrong(
                Wording("An email can be %(mail_words)s.", mail_words=", ".join(MAIL_WORDS))
            )
        if among not in ("sent", "everyone"):
            raise line.wrong("“Did not” is said among those it was sent to, or among everyone.")
        if what == "sent":
            # Among those it was sent to nobody was not sent it.
            among = "everyone"
        if not _up_to_1000(times):
            raise line.wrong("How many different emails must be a whole number from 1 to 1,000.")
        of = _of(member(data, "of", dict, line.ident), line)
        link = data.get("link")
        if link is not None and not (
            what == "clicked" and of[0] == "message" and isinstance(link, int)
        ):
            raise line.wrong("One link can only be named for clicks in one message.")
        span = read_span(member(data, "span", dict, line.ident), line.ident)
        latest = data.get("latest")
        if latest is not None:
            if not _up_to_1000(latest) or what == "sent" or span != Span():
                raise line.wrong(
                    "“Of the last so many they were sent” is a whole number from 1 to 1,000, "
                    "without a span of days."
                )
            if times > latest:
                raise line.wrong(
                    Wording(
                        "Of the last %(latest)s there are never %(times)s.",
                        latest=latest,
                        times=times,
                    )
                )
            among = "sent"
        did = bool(data.get("did", True))
        return MailLine(line.ident, what, did, of, link, times, span, among, latest, line.off)

    def write(self, node: MailLine) -> Json:
        data: Json = {
            "what": node.what,
            "did": node.did,
            "of": {} if node.of[0] == "any" else {node.of[0]: node.of[1]},
            "times": node.times,
            "span": write_span(node.span),
            "among": node.among,
        }
        if node.link is not None:
            data["link"] = node.link
        if node.latest:
            data["latest"] = node.latest
        return data

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        return {
            "what": key,
            "did": True,
            "of": {},
            "times": 1,
            "span": {"last": 90},
            "among": "sent",
        }

    def turning(self, node: MailLine, words: Dictionary) -> Turning:
        # What counts as success is set with each send, and may be any event.
        followed = node.what != "converted"
        daily = node.span.last is not None
        return Turning(frozenset({DELIVERIES, REACTIONS}), daily, followed=followed)

    def holds(self, node: MailLine, person: Person, judge: "Judge") -> bool:
        inside = within(node.span, judge.clock, person.zone)
        of = _of_line(node, person, judge)
        happened = {
            mail.send for mail in of if any(inside(at) for at in _moments(node, mail, person))
        }
        if node.did:
            return len(happened) >= node.times
        sent = any(mail.outcome in SENT and inside(mail.at) for mail in of)
        return len(happened) < node.times and (sent or node.among == "everyone")

    def looked_at(self, node: MailLine, person: Person, judge: "Judge") -> str:
        found = _of_line(node, person, judge)
        return wording.count_of(len(found), "message") + " of these in all"

    def countable(self, node: MailLine) -> bool:
        return node.did and node.times == 1

    def moments(self, node: MailLine, person: Person, judge: "Judge") -> list[dt.datetime]:
        """For each message the first time that what the line asks for happened."""
        inside = within(node.span, judge.clock, person.zone)
        found = (
            [at for at in _moments(node, mail, person) if at is not None and inside(at)]
            for mail in _of_line(node, person, judge)
        )
        return [min(moments) for moments in found if moments]

    def sentence(self, node: MailLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        parts = [
            Part("text", "anyone who" if out else "who"),
            Part("word", MAIL_WORDS[node.what][0 if node.did else 1], "what"),
        ]
        number = node.of[1]
        if node.link is not None and isinstance(number, int):
            label = (words.links(number) or {}).get(node.link, f"number {node.link + 1}")
            parts += [
                Part("text", "the link"),
                Part("word", f"“{label}”", "of"),
                Part("text", "of"),
            ]
        parts += [Part("strong", _of_words(node, words), "of"), Part("word", _when(node), "span")]
        if not node.did and node.what != "sent" and not node.latest:
            among = (
                "among those it was sent to"
                if node.among == "sent"
                else "whether it was sent to them or not"
            )
            parts.append(Part("word", among, "among"))
        return parts

    def means_today(self, node: MailLine, words: Dictionary, today: dt.date) -> str:
        if node.span.last is None:
            return ""
        return wording.span(*rolling("in_last", node.span.last, today))


def _up_to_1000(value: Any) -> bool:
    return not isinstance(value, bool) and isinstance(value, int) and 1 <= value <= 1000


def _of(given: Mapping[str, Any], line: Reading) -> tuple[str, int | str | None]:
    of: tuple[str, int | str | None] = ("any", None)
    for kind in NAMED_BY:
        if kind in given:
            of = (kind, line.named(kind, given[kind]))
    return ("channel", line.channel(given)) if "channel" in given else of


def _of_line(line: MailLine, person: Person, judge: "Judge") -> list[Mail]:
    """The messages to a person that a line is about, whatever became of them; or the last of
    them that they were sent."""
    found = _named(line, person, judge)
    if line.latest is None:
        return found
    sent = [(m.at, m.send, m) for m in found if m.outcome in SENT and m.at is not None]
    return [mail for _, _, mail in sorted(sent, key=lambda s: s[:2])[-line.latest :]]


def _named(line: MailLine, person: Person, judge: "Judge") -> list[Mail]:
    kind, what = line.of
    if kind == "any":
        return list(person.mails)
    if kind == "tag":
        under = judge.words.under(int(what or 0))
        return [mail for mail in person.mails if under & set(mail.tags)]
    return [mail for mail in person.mails if getattr(mail, kind) == what]


def _moments(line: MailLine, mail: Mail, person: Person) -> list[dt.datetime | None]:
    """When what a line asks for happened with one mail."""
    if line.what in ("sent", "delivered", "bounced"):
        wanted = SENT if line.what == "sent" else (line.what,)
        return [mail.at] if mail.outcome in wanted else []
    if line.what == "converted":
        if mail.at is None or mail.outcome != "delivered":
            return []
        end = mail.at + dt.timedelta(days=mail.success_days)
        return [h.at for h in person.events if h.event == mail.success and mail.at <= h.at < end]
    kinds = ("opened", "clicked") if line.what == "opened" else (line.what,)
    return [
        r.at
        for r in mail.reactions
        if r.kind in kinds
        and not (r.machine and line.what in BY_PEOPLE)
        and (line.link is None or r.link == line.link)
    ]


def _of_words(node: MailLine, words: Dictionary) -> str:
    """Which messages, in words."""
    kind, number = node.of
    name = words.name(kind, int(number)) if isinstance(number, int) else None
    one, several = "message", "messages"
    if kind == "channel":
        one, several = KINDS[str(number)].one, KINDS[str(number)].several
    some = f"at least {node.times} {several}" if node.times > 1 else f"any {one}"
    return {
        "any": some,
        "channel": some,
        "tag": f"{some} tagged “{name}”",
        "campaign": f"{some} of the campaign “{name}”",
    }.get(kind, f"the {kind} “{name}”")


def _when(node: MailLine) -> str:
    if node.latest == 1:
        return "of the last they were sent"
    if node.latest:
        return f"among the last {node.latest} they were sent"
    return span_words(node.span)
