"""What a few typed words may mean as one line, from the known fields, events and names: “bought a
ticket twice since March”."""

import dataclasses
import datetime as dt
import re

from meadowrun.core.audience import definition as d
from meadowrun.core.audience import english
from meadowrun.core.audience.alike import FILLER, likeness, related, stem, tokens
from meadowrun.core.audience.edit import fresh
from meadowrun.core.audience.fields import Dictionary, EventSpec
from meadowrun.core.audience.one_field import LANGUAGES, OTHERWISE, Json, Scored, field_lines
from meadowrun.core.audience.operands import OPERATORS, TOTALS
from meadowrun.core.audience.said import Said, take_apart
from meadowrun.core.audience.vocabulary import ANY_MAIL, CUES, FOR_WANT, MAIL, OTHER_WORDS
from meadowrun.core.audience.when import When
from meadowrun.core.channels import KINDS, USUAL
from meadowrun.core.wording import fold

_COUNTED = re.compile(
    r"\b(at least|at most|exactly|more than|fewer than|less than|over|only)? "
    r"?(\d+|two|three|four|five|six|seven|eight|nine|ten)"
    r"( or more| or less)? ([a-z]+s)\b",
    re.IGNORECASE,
)
_AGES, _SHARES = (
    {"old", "older", "younger", "aged", "year", "years"},
    {"half", "third", "quarter", "fifth", "tenth"},
)
_PARTS_OF_ALL = {"half": 50, "a third": 33.3, "a quarter": 25, "a fifth": 20, "a tenth": 10}


@dataclasses.dataclass(frozen=True)
class Reading:
    """A line that a sentence may mean, without ids; its English; and the words of the sentence that
    it makes nothing of."""

    line: Json
    said: str
    unused: tuple[str, ...]


def readings(text: str, words: Dictionary, today: dt.date) -> list[Reading]:
    """The single lines that a sentence may mean, the likeliest first."""
    text = in_known_words(text, words)
    found = _readings(text, words, today)
    if (
        all(reading.unused for reading in found)
        and (other := _COUNTED.sub(r" \4 \1 \2 times\3", text)) != text
    ):
        # “bought more than two tickets” is bought a ticket more than two times.
        found = [
            r for r in _readings(other, words, today) if r.line["kind"] in ("event", "mail")
        ] + found
    if not found and (other := _replaced(text, FOR_WANT)) != text:
        found = _readings(other, words, today)
    return found


def _readings(text: str, words: Dictionary, today: dt.date) -> list[Reading]:
    said = take_apart(text, today)
    if said.nots > 1 and re.search(r"\b(and|or|but)\b", fold(text)):
        return []
    found: list[Scored] = [
        *_events(said, words, today),
        *field_lines(said, words, text, today),
        *_mails(said, words, today),
        *_others(said, words, text),
    ]
    found.sort(key=lambda f: -f[0])
    lines: list[Json] = []
    for score, line in found:
        if score >= 0.6 * found[0][0] and line not in lines:
            lines.append(line)
    made = (_reading(line, said, words, today) for line in lines)
    return [reading for reading in made if reading is not None]


def _replaced(text: str, others: dict[str, str]) -> str:
    if not others:
        return text
    several = "|".join(sorted(map(re.escape, others), key=len, reverse=True))
    return re.sub(rf"\b(?:{several})\b", lambda m: others[m[0].lower()], text, flags=re.IGNORECASE)


def in_known_words(text: str, words: Dictionary) -> str:
    """A sentence with words of this house where it says the same in others."""
    names = [
        *(f"{e.did} {e.do}" for e in words.events.values()),
        *(f"{f.label} {' '.join(f.options)}" for f in words.fields.values()),
    ]
    known = {stem(w) for name in names for w in re.findall(r"[^\W_]+", fold(name))}
    others: dict[str, str] = {}
    for several, instead in OTHER_WORDS.items():
        there = next(
            (
                other
                for other in instead
                if all(stem(w) in known or w in FILLER for w in other.split())
            ),
            None,
        )
        if there:
            others |= {said: there for said in several if " " in said or stem(said) not in known}
    return _replaced(text, others)


def in_english(line: Json, words: Dictionary, today: dt.date) -> str:
    """A line, or a group of lines, as a text. Raises DefinitionError."""
    if line["kind"] == "group":
        joiner = ", and " if line["match"] == "all" else ", or "
        return joiner.join(in_english(one, words, today) for one in line["lines"])
    (node,) = d.parse({"lines": [fresh(line)]}, words).lines
    return english.text(english.sentence(node, words, today))


def _reading(line: Json, said: Said, words: Dictionary, today: dt.date) -> Reading | None:
    """A line with its English and what it leaves out; None when it cannot be said of anybody."""
    try:
        text = in_english(line, words, today)
    except d.DefinitionError:
        return None
    event = words.events.get(str(line.get("event")))
    # “did not buy” is what somebody means who types “not bought”.
    spoken = f"{text} {event.did} {event.do} {event.key.replace('_', ' ')}" if event else text
    if line.get("field") == "language":
        spoken += " " + " ".join(
            name for name, code in LANGUAGES.items() if code in line.get("value", [])
        )
    there = {stem(w) for w in re.findall(r"[^\W_]+", fold(spoken))}
    cues = CUES | (_AGES if said.aged else set()) | (_SHARES if line["kind"] == "share" else set())
    left = [
        w
        for w in re.findall(r"[^\W_]+", said.rest)
        if w not in FILLER and w not in cues and not any(related(stem(w), t) for t in there)
    ]
    unsaid = " ".join(taken for says, taken in said.taken.items() if not _says(line, says, said))
    left += [w for w in re.findall(r"[^\W_]+", unsaid) if w not in FILLER]
    return Reading(line, text, tuple(dict.fromkeys(left)))


def _says(line: Json, what: str, said: Said) -> bool:
    """Whether a line says what was taken out of the text: when, how often, how much, or that only
    some times or messages count."""
    if what == "when":
        return (
            bool(line.get("span"))
            or said.when.kind == "ever"
            or line["kind"] == "field"
            and line["op"] in OPERATORS["datetime"]
        )
    if what == "times":
        return bool(line["kind"] == "event" or line["kind"] == "mail" and line["times"] > 1)
    if what == "amount":
        return _says_amount(line, said)
    if what == "total":
        return bool(line.get("total"))
    return bool(line.get("latest") if what == "latest" else line.get("which", "any") != "any")


def _says_amount(line: Json, said: Said) -> bool:
    op, value = line.get("op"), line.get("value")
    values = value if isinstance(value, list) else [value]
    if (
        line["kind"] == "share"
        or line.get("where")
        or line.get("total")
        or said.aged
        and op in OPERATORS["date"]
    ):
        return True
    # A text may be a number, as in “reference number is 12345”.
    return op in OPERATORS["number"] and all(
        isinstance(one, int | float) or str(one) in said.taken["amount"] for one in values
    )


def span_of(when: When, today: dt.date) -> Json:
    """The span of a line for what was done."""
    if when.kind in ("last", "within"):
        return {"last": when.days}
    if when.kind == "ago":
        return {"to": (today - dt.timedelta(days=when.days + 1)).isoformat()}
    found: Json = {}
    if when.first:
        found["from"] = (when.first + dt.timedelta(days=when.kind == "after")).isoformat()
    if when.last and when.kind != "since":
        found["to"] = (when.last - dt.timedelta(days=when.kind == "before")).isoformat()
    return found


def _events(said: Said, words: Dictionary, today: dt.date) -> list[Scored]:
    when = said.when
    if when.kind in ("next", "ahead") or said.latest or when.first and when.first > today:
        return []
    # What has lasted for years, or is overdue, is no deed.
    if when.kind == "ago" and (not when.days or when.words.startswith("for ")):
        return []
    found = []
    spoken = tokens(said.rest)
    for event in words.events.values():
        if event.retired:
            continue
        score = max(
            likeness(spoken, name) for name in (event.did, event.do, event.key.replace("_", " "))
        )
        shorter, where = _detailed(said, event)
        if shorter > score:
            score = shorter
        else:
            where = []
        if (
            said.when.kind == "within"
            and not set(said.rest.split()) & set(event.did.split()) - FILLER
        ):
            # “renews within 60 days” looks ahead; “renewed within 60 days” looks back.
            score -= 0.4
        if f"{event.do.split()[0]}s" in said.rest.split():
            # “renews this month” is rather said of a day that comes.
            score -= 0.4
        if score >= 0.4:
            line = _event_line(said, event, today)
            if where and line["did"]:
                line["where"] = where
            # Where a field fits as well, a verb speaks for what was done, and nouns for what
            # somebody is.
            verbs = {event.did.split()[0], event.do.split()[0]} & set(said.rest.split())
            found.append((score + (0.05 if verbs else -0.01) + 0.2 * bool(said.times), line))
    return found


def _detailed(said: Said, event: EventSpec) -> tuple[float, list[Json]]:
    """How well an event fits when the end of what was said is one of its details, as in “about
    Saturn”; and that detail."""
    m = re.search(
        r"(?:titled|called|named|about|on|the) [“\"']?(.+?)[”\"']?$|(?=/\w)(/\S+)", said.rest
    )
    text = next((detail for detail in event.details if detail.type == "text"), None)
    if m is None or text is None:
        return 0.0, []
    given = (m[1] or m[2]).strip()
    value = given.removeprefix(f"{fold(text.label)} ").strip(" “”\"'")
    if (
        value in (fold(text.label), "")
        or all(w in FILLER for w in value.split())
        or re.search(r" (and|but|who) ", value)
    ):
        return 0.0, []
    # The detail's own name, as in “the lecture Moons”, says what was done.
    before = said.rest[: m.start()] + (
        f" {fold(text.label)}" if given.startswith(f"{fold(text.label)} ") else ""
    )
    return likeness(tokens(before), event.did), [
        {"detail": text.key, "op": "contains", "value": value}
    ]


def _event_line(said: Said, event: EventSpec, today: dt.date) -> Json:
    op, n = said.times or ("at_least", 1)
    line: Json = {
        "kind": "event",
        "event": event.key,
        "did": not said.not_,
        "times": {"op": op, "n": n},
        "span": span_of(said.when, today),
        "where": [],
    }
    number = next((detail for detail in event.details if detail.type == "number"), None)
    if said.amount and number is not None and not said.not_:
        compare = {"detail": number.key, "op": said.amount[0], "value": said.amount[1]}
        if said.total and said.amount[0] in TOTALS:
            line["total"] = compare
        else:
            line["where"] = [compare]
    if said.which != "any" and not said.not_:
        line |= {"which": said.which, "times": {"op": "at_least", "n": 1}}
    return line


def _mails(said: Said, words: Dictionary, today: dt.date) -> list[Scored]:
    found = []
    spoken = said.rest.split()
    for what, verbs in MAIL.items():
        verb = next((v for v in verbs if set(v.split()) <= set(spoken)), None)
        if verb is None or said.latest and what == "sent":
            continue
        others = [
            stem(t)
            for t in spoken
            if t not in verb.split() and t not in FILLER and t not in ANY_MAIL
        ]
        email = "email" if re.search(r"\b(?:e-?)?mails?\b|\bemailed\b", said.rest) else ""
        channel = next(
            (k.key for k in KINDS.values() if k.cue and re.search(k.cue, said.rest)), email
        )
        of: dict[str, int | str] = {"channel": channel} if channel else {}
        score = (
            0.82 if not others and (verb not in ("got", "get") or ANY_MAIL & set(spoken)) else 0.0
        )
        for kind in ("message", "campaign", "send"):
            for number, name in words.named.get(kind, {}).items():
                near = likeness(others, name)
                if near > 0.45 and near + 0.3 > score:
                    of, score = {kind: number}, near + 0.3
        tag = next(
            (
                n
                for n, path in words.named.get("tag", {}).items()
                if others and likeness(others, path.replace("/", " ")) > 0.6
            ),
            None,
        )
        if tag and score < 0.8:
            of, score = {"tag": tag}, 0.8
        if score:
            line: Json = {
                "kind": "mail",
                "what": what,
                "did": not said.not_,
                "of": of,
                "times": said.times[1]
                if said.times and said.times[0] == "at_least" and not {"message", "send"} & set(of)
                else 1,
                "among": "sent",
            }
            if said.latest:
                line |= {"latest": said.latest, "span": {}}
            else:
                line["span"] = span_of(said.when, today)
            found.append((score + 0.5 * bool(said.latest), line))
    return found


def _others(said: Said, words: Dictionary, text: str) -> list[Scored]:
    """Shares, reach, consent, tags, scores, lists and segments."""
    return [
        *_share(said),
        *_reach(said),
        *_consent(said, words),
        *_tagged(said, words),
        *_scored(said, words),
        *_sets(said, words, text),
    ]


def _share(said: Said) -> list[Scored]:
    if m := re.search(r"(\d+(?:\.\d+)?) ?(?:%|percent)", said.rest):
        return [
            (0.8, {"kind": "share", "percent": float(m[1]), "salt": f"s{m[1].replace('.', '')}"})
        ]
    percent = next(
        (
            share
            for name, share in _PARTS_OF_ALL.items()
            if re.fullmatch(rf"{name}(?: of (?:them|all|everyone|everybody|people))?", said.rest)
        ),
        None,
    )
    return (
        [(0.8, {"kind": "share", "percent": percent, "salt": f"s{percent}".replace(".", "")})]
        if percent and not said.not_
        else []
    )


def _channel(rest: str) -> str:
    return next(
        (kind.key for kind in KINDS.values() if kind.cue and re.search(kind.cue, rest)), "email"
    )


def _reach(said: Said) -> list[Scored]:
    if not re.search(
        (
            r"\breach|\b(get|receive) (e-?mail|text|sms|notice|"
            r"notification|push|card|in-app)|\bmailable|\bbe "
            r"(texted|e?mailed|notified)"
        ),
        said.rest,
    ):
        return []
    return [(0.9, {"kind": "reach", "channel": _channel(said.rest), "can": not said.not_})]


def _consent(said: Said, words: Dictionary) -> list[Scored]:
    rest, channel = said.rest, _channel(said.rest)
    if (
        not re.search(r"\b(agrees?|agreed|consent\w*|subscrib\w*|opted|said|asked)\b", rest)
        or "unsubscrib" in rest
    ):
        return []
    state = (
        "unasked"
        if "asked" in rest
        else "refused"
        if said.not_ or "opted out" in rest
        else "agreed"
    )
    topics = {
        n: likeness(
            tokens(
                re.sub(
                    r"\b(agreed?|consent\w*|subscribed?|opted|in|out|said|yes|asked|about)\b",
                    " ",
                    rest,
                )
            ),
            name,
        )
        for n, name in words.named.get("topic", {}).items()
    }
    best = max(topics, key=lambda n: topics[n], default=0)
    if topics.get(best, 0) > 0.4:
        return [
            (
                0.75,
                {"kind": "consent", "topic": best, "state": state}
                | ({"channel": channel} if channel != USUAL else {}),
            )
        ]
    return [(0.75, {"kind": "consent", "topic": 0, "channel": channel, "state": state})]


def _tagged(said: Said, words: Dictionary) -> list[Scored]:
    if not re.search(r"\btag(ged|s)?\b", said.rest):
        return []
    rest = re.sub(r"\b(has|have|bears?|is|are|a|the|tag(ged|s)?|with|as)\b", " ", said.rest)
    named = {re.sub(r"\W", "", fold(path)): n for n, path in words.named.get("tag", {}).items()}
    named |= {
        re.sub(r"\W", "", fold(path.rsplit("/", 1)[-1])): n
        for n, path in words.named.get("tag", {}).items()
        if "/" in path
    } | named
    exact = [named.get(re.sub(r"\W", "", part)) for part in re.split(r",| or | and ", rest)]
    if all(exact):
        lines = [{"kind": "tag", "tag": one, "inside": not said.not_} for one in exact]
        together = " and " in rest or said.not_
        return [
            (
                1.0,
                lines[0]
                if len(lines) == 1
                else {"kind": "group", "match": "all" if together else "any", "lines": lines},
            )
        ]
    spoken = tokens(rest)
    return [
        (0.6 + near / 3, {"kind": "tag", "tag": number, "inside": not said.not_})
        for number, path in words.named.get("tag", {}).items()
        if (near := likeness(spoken, re.sub("[/-]", " ", path))) > 0.4
    ]


def _scored(said: Said, words: Dictionary) -> list[Scored]:
    spoken = tokens(
        re.sub(r"\b(scores?|points?|at least|more than|less than|under|over|\d+)\b", " ", said.rest)
    )
    found = []
    for number, name in words.named.get("score", {}).items():
        near = (
            likeness(spoken, name)
            if spoken
            else 0.5 * bool(re.search(r"\b(scores?|points?)\b", said.rest))
        )
        if near > 0.4 and (re.search(r"\b(score|point)", said.rest) or said.amount):
            op, value = said.amount or ("at_least", 1)
            op = {"is": "at_least"}.get(op, op)
            if op in OTHERWISE:
                found.append(
                    (
                        0.5 + near / 3 + (0.2 if "score" in said.rest else 0),
                        {
                            "kind": "score",
                            "score": number,
                            "op": OTHERWISE[op] if said.not_ else op,
                            "value": value,
                        },
                    )
                )
    return found


def _sets(said: Said, words: Dictionary, text: str) -> list[Scored]:
    found: list[Scored] = []
    for kind, cue in (("list", r"\blist\b"), ("segment", r"\bsegment\b")):
        bare = re.sub(rf"{cue}|^(?:in|on|inside|among) (?:the )?|\bthe\b", " ", said.rest)
        for number, name in words.named.get(kind, {}).items():
            near = likeness(tokens(bare), name)
            if near > 0.6:
                # “in Members”, or its name with its capital inside a sentence: the set itself.
                exact = " ".join(bare.split()) == fold(name) and (
                    re.match(r"(?:in|on|inside|among) ", said.rest)
                    or re.search(rf"\S {re.escape(name)}\b", text)
                    and name[:1].isupper()
                )
                score = 1.3 if exact else near + (0.2 if re.search(cue, said.rest) else -0.25)
                found.append((score, {"kind": kind, kind: number, "inside": not said.not_}))
    return found
