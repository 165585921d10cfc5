"""A typed sentence as lines: “bought a ticket twice since March”, “renews within 60 days”. A small grammar over the known
fields, events and names; no service. What is left unclear yields several readings, the likeliest first."""

import dataclasses
import datetime as dt
import re
from collections.abc import Iterable
from typing import Any

from meadowrun.core.audience import definition as d
from meadowrun.core.audience import english
from meadowrun.core.audience.edit import fresh
from meadowrun.core.audience.fields import Dictionary, EventSpec, FieldSpec
from meadowrun.core.audience.operands import TOTALS
from meadowrun.core.audience.said import Said, When, take_apart
from meadowrun.core.wording import fold

Json = dict[str, Any]
MOST = 6
_FILLER = {"a", "an", "the", "any", "of", "to", "for", "their", "his", "her", "has", "have", "had", "are", "is", "was", "were", "be",
           "in", "on", "at", "by", "and", "that", "who", "whose", "people", "them", "it", "or", "more", "some", "us", "our", "from", "with",
           "came", "went", "attended", "like", "likes", "works", "work"}
_MAIL = {"sent": ("sent", "get sent", "mailed"), "delivered": ("received", "receive", "delivered"), "opened": ("opened", "open", "read"),
         "clicked": ("clicked", "click"), "bounced": ("bounced", "bounce"), "complained": ("complained", "complain"),
         "unsubscribed": ("unsubscribed", "unsubscribe"), "converted": ("converted", "convert")}
#: channel → what a sentence calls what people get by it
_CHANNELS = {"sms": r"\b(sms|texts?)\b", "push": r"\b(notices?|push)\b", "card": r"\bcards?\b"}
_YEARLY = re.compile(r"birth|anniversar|name day|turn|come.? round|every year")
#: what a comparison of numbers becomes under a “not”
_OTHERWISE = {"is": "is_not", "more_than": "at_most", "at_least": "less_than", "less_than": "at_least", "at_most": "more_than"}

#: Words that say how something is meant and need not stand in the line again.
_CUES = {"live", "lives", "living", "come", "comes", "based", "something", "anything", "mail", "mails", "email", "emails", "e-mail", "message",
         "messages", "newsletter", "newsletters", "campaign", "link", "links", "text", "texts", "sms", "notice", "notices", "get", "gets",
         "called", "titled", "named", "about", "as", "which", "we", "still", "ever", "already", "yet", "list", "segment", "mailed", "received",
         "receive", "read", "mailable", "percent", "%", "subscribed", "consent", "consented", "opted", "said", "yes", "do", "did", "does",
         "blank", "empty", "missing", "known", "unknown", "filled", "given", "there", "set", "equals", "least", "steady", "random", "contains",
         "contain", "includes", "include", "begins", "starts", "bears", "tagged", "tag", "ones", "one", "day", "days", "time", "times",
         "ending", "address", "addresses", "reachable", "reach"}
#: Where a sentence may fall into two that are each said of the same people.
_BETWEEN = re.compile(r",? (but|and|or|who) ", re.IGNORECASE)
_BUT_NOT = re.compile(r",? (?:but|and|or) (?:not|never|no|without|did ?n.?t|has ?n.?t|is ?n.?t|did not|has not|is not)\b", re.IGNORECASE)


@dataclasses.dataclass(frozen=True)
class Reading:
    """A line that a sentence may mean, without ids; its English; and the words of the sentence that it makes nothing of."""

    line: Json
    said: str
    unused: tuple[str, ...]


def read(text: str, words: Dictionary, today: dt.date) -> list[Reading]:
    """What a typed sentence may mean, the likeliest first; nothing when nothing in it is known. What uses every word comes before
    what leaves some out; where no single line uses them all, two lines are tried that are joined by “and”, “or” or “but”."""
    whole = _readings(text, words, today)
    if any(not reading.unused for reading in whole):
        return sorted(whole, key=lambda reading: len(reading.unused))[:MOST]
    joined = _joined(text, words, today)
    if joined is None and (found := _BUT_NOT.search(text)):
        # What is said after it must not turn round what was said before.
        left = tuple(w for w in re.findall(r"[^\W_]+", fold(text[found.start():])) if w not in _FILLER)
        whole = [dataclasses.replace(r, unused=(*r.unused, *left)) for r in _readings(text[:found.start()], words, today)]
    return ([joined] if joined else []) + sorted(whole, key=lambda reading: len(reading.unused))[:MOST]


def _readings(text: str, words: Dictionary, today: dt.date) -> list[Reading]:
    """The single lines that a sentence may mean, the likeliest first."""
    said = take_apart(text, today)
    found: list[tuple[float, Json]] = [*_events(said, words), *_fields(said, words, text), *_mails(said, words), *_others(said, words)]
    found.sort(key=lambda f: -f[0])
    lines: list[Json] = []
    for score, line in found:
        if score >= 0.6 * found[0][0] and line not in lines:
            lines.append(line)
    made = (_reading(line, said, words, today) for line in lines)
    return [reading for reading in made if reading is not None]


def _reading(line: Json, said: Said, words: Dictionary, today: dt.date) -> Reading | None:
    """A line with its English and what it leaves out; None when it cannot be said of anybody."""
    try:
        (node,) = d.parse({"lines": [fresh(line)]}, words).lines
    except d.DefinitionError:
        return None
    text = english.text(english.sentence(node, words, today))
    event = words.events.get(str(line.get("event")))
    # “did not buy” is what somebody means who types “not bought”.
    spoken = f"{text} {event.did} {event.do}" if event else text
    there = {_stem(w) for w in re.findall(r"[^\W_]+", fold(spoken))}
    left = [w for w in re.findall(r"[^\W_]+", said.rest) if w not in _FILLER and w not in _CUES and not any(_related(_stem(w), t) for t in there)]
    return Reading(line, text, tuple(dict.fromkeys(left)))


def _related(a: str, b: str) -> bool:
    """Whether two stems are of one word: “donation” and “donate”."""
    return _alike(a, b) or len(a) >= 5 and a[:5] == b[:5]


def _joined(text: str, words: Dictionary, today: dt.date) -> Reading | None:
    """Two lines for a sentence of two halves, each of which is understood to its last word."""
    for found in _BETWEEN.finditer(text):
        halves = (text[:found.start()], text[found.end():])
        best = [next((r for r in _readings(half, words, today) if not r.unused), None) for half in halves]
        if best[1] is None and best[0] is not None and (bare := re.match(r"(?:not|no|never) (.+)", halves[1], re.IGNORECASE)):
            best[1] = _same_verb(halves[0], bare[1], words, today)
        if best[0] is None or best[1] is None:
            continue
        match = "any" if found[1].lower() == "or" else "all"
        line = {"kind": "group", "match": match, "lines": [r.line for r in best if r is not None]}
        said = f"{best[0].said}, {'or' if match == 'any' else 'and'} {best[1].said}"
        return Reading(line, said, ())
    return None


def _same_verb(first: str, rest: str, words: Dictionary, today: dt.date) -> Reading | None:
    """“came to a lecture but not a visit”: the second half borrows the words before the first one's object."""
    spoken = first.split()
    for size in range(len(spoken) - 1, -1, -1):
        for reading in _readings(" ".join(["not", *spoken[:size], rest]), words, today):
            if not reading.unused:
                return reading
    return None


def _stem(word: str) -> str:
    for end in ("ings", "ing", "als", "al", "ed", "es", "ies", "s", "ly"):
        if word.endswith(end) and len(word) - len(end) >= 4:
            return word[:-len(end)]
    return word


def _tokens(text: str) -> list[str]:
    return [_stem(w) for w in re.findall(r"[a-z0-9%’'-]+", fold(text)) if w not in _FILLER]


def _alike(a: str, b: str) -> bool:
    return a == b or (min(len(a), len(b)) >= 4 and (a.startswith(b) or b.startswith(a)))


def _likeness(said: Iterable[str], name: str) -> float:
    """How much of what was said is in the name, and the other way round; 0 to 1."""
    mine, theirs = list(said), _tokens(name)
    if not mine or not theirs:
        return 0.0
    hit = sum(1 for m in mine if any(_alike(m, t) for t in theirs))
    back = sum(1 for t in theirs if any(_alike(m, t) for m in mine))
    return (hit / len(mine) + back / len(theirs)) / 2 if hit else 0.0


def _span(when: When) -> Json:
    if when.kind in ("last", "within"):
        return {"last": when.days}
    if when.kind == "ago":
        return {}
    found: Json = {}
    if when.first:
        found["from"] = (when.first + dt.timedelta(days=when.kind == "after")).isoformat()
    if when.last:
        found["to"] = (when.last - dt.timedelta(days=when.kind == "before")).isoformat()
    return found


def _events(said: Said, words: Dictionary) -> list[tuple[float, Json]]:
    found = []
    for event in words.events.values():
        if event.retired:
            continue
        tokens = _tokens(said.rest)
        score = max(_likeness(tokens, name) for name in (event.did, event.do, event.key.replace("_", " ")))
        where: list[Json] = []
        details = {d.key: d for d in event.details}
        if m := re.search(r"(?:titled|called|named|about|the) [“\"']?(.+?)[”\"']?$", said.rest):
            text = next((d for d in details.values() if d.type == "text"), None)
            shorter = _likeness(_tokens(said.rest[:m.start()]), event.did)
            if text is not None and shorter > score:
                score, where = shorter, [{"detail": text.key, "op": "contains", "value": m[1].strip()}]
        if said.when.kind in ("next", "ahead"):
            continue
        if said.when.kind == "within" and not set(said.rest.split()) & set(event.did.split()) - _FILLER:
            # “renews within 60 days” looks ahead; “renewed within 60 days” looks back.
            score -= 0.4
        if score < 0.4:
            continue
        line = _event_line(said, event)
        if where and line["did"]:
            line["where"] = where
        found.append((score + 0.2 * bool(said.times), line))
    return found


def _event_line(said: Said, event: EventSpec) -> Json:
    op, n = said.times or ("at_least", 1)
    line: Json = {"kind": "event", "event": event.key, "did": not said.not_, "times": {"op": op, "n": n}, "span": _span(said.when),
                  "where": []}
    number = next((d for d in event.details if d.type == "number"), None)
    if said.amount and number is not None and not said.not_:
        compare = {"detail": number.key, "op": said.amount[0], "value": said.amount[1]}
        if said.total and said.amount[0] in TOTALS:
            line["total"] = compare
        else:
            line["where"] = [compare]
    if said.when.kind == "ago" and not said.not_:
        line |= {"which": "latest", "times": {"op": "at_least", "n": 1}}
    return line


def _fields(said: Said, words: Dictionary, text: str) -> list[tuple[float, Json]]:
    found: list[tuple[float, Json]] = []
    for spec in words.fields.values():
        if spec.retired:
            continue
        several = [next((o for o in spec.options if fold(o) == part), None) for part in re.split(r"\s*(?:,| or | and )\s*", said.rest)]
        if len(several) > 1 and all(several):
            ops = {"choice": ("is", "is_not"), "choices": ("has", "has_not")}[spec.type]
            found.append((1.0, {"kind": "field", "field": spec.ref, "op": ops[said.not_], "value": several}))
        for option in spec.options:
            # A choice's value alone says the field as well: “patrons”.
            if any(_alike(t, o) for t in _tokens(said.rest) for o in _tokens(option)) and len(_tokens(said.rest)) <= 3:
                none = {"choice": ("is", "is_not"), "choices": ("has", "has_not")}.get(spec.type)
                if none:
                    found.append((0.75 * _likeness(_tokens(said.rest), f"{option} {spec.label}") + 0.2, {
                        "kind": "field", "field": spec.ref, "op": none[said.not_], "value": [option]}))
        label = spec.label.removeprefix("company’s ")
        score = _likeness(_tokens(said.rest), label)
        if m := re.search(rf"\b{re.escape(fold(label))}\b", said.rest):
            score = max(score, 0.9)
            after = said.rest[m.end():].strip()
        elif m := re.match(rf"{re.escape(fold(label).split(' ')[0])} (?=is |contains |begins |starts |includes |known|blank|empty|missing)",
                           said.rest):
            score, after = max(score, 0.8), said.rest[m.end():].strip()
        else:
            after = ""
        if score >= 0.4:
            found += [(score - 0.05 * place, line) for place, line in enumerate(_field_lines(said, spec, after, text))]
    if host := re.search(r"\b(?:address(?:es)?|e?mails?) (?:is |are )?(?:at|from|ending (?:in|with)|with) @?([\w-]+(?:\.[\w-]+)+)$", said.rest):
        found.append((1.0, {"kind": "field", "field": "email", "op": "not_contains" if said.not_ else "contains", "value": f"@{host[1]}"}))
    place = re.search(r"\b(?:live|lives|living|come|comes|from|in|based) (?:in |from )?([a-z][a-z’' -]+)$", said.rest)
    town = words.fields.get("town")
    if place and town is not None and not found and not re.match(r"(the )?(list|segment|a steady)\b", place[1]):
        found.append((0.6, {"kind": "field", "field": "town", "op": "is_not" if said.not_ else "is",
                            "value": [_as_typed(place[1].strip(), text)]}))
    return found


def _as_typed(folded: str, text: str) -> str:
    """A value as it was typed, with its capitals."""
    at = fold(text).find(folded)
    return text.strip()[at:at + len(folded)] if at >= 0 and len(fold(text)) == len(text.strip()) else folded


def _field_lines(said: Said, spec: FieldSpec, after: str, text: str) -> list[Json]:
    base: Json = {"kind": "field", "field": spec.ref}
    bare = re.sub(r"^(is|are|equals?|=|as) ", "", after + " ").strip(" “”\"'")
    if re.fullmatch(r"(is |are )?(blank|empty|missing|unknown)", after) or (said.not_ and not bare and not said.when.kind and not said.amount):
        filled = after.endswith(("blank", "empty", "missing", "unknown")) and said.not_
        return [base | {"op": "not_blank" if filled else "blank"}]
    if re.fullmatch(r"(is |are )?(known|filled|given|there|set)", after):
        return [base | {"op": "blank" if said.not_ else "not_blank"}]
    if spec.is_day:
        return [base | line for line in _date_lines(said, spec)] or [base | {"op": "not_blank"}]
    if spec.type == "number":
        if not said.amount:
            return [base | {"op": "not_blank"}]
        op = _OTHERWISE.get(said.amount[0]) if said.not_ else said.amount[0]
        return [base | {"op": op, "value": said.amount[1]}] if op else []
    if spec.type == "yes_no":
        return [base | {"op": "no" if said.not_ else "yes"}]
    if not bare:
        return [base | {"op": "blank" if said.not_ else "not_blank"}]
    values = [v for v in re.split(r"\s*(?:,| or | and )\s*", bare) if v]
    if spec.type in ("choice", "choices"):
        known = [next((o for o in spec.options if fold(o) == v or _alike(_stem(v), _stem(fold(o)))), None) for v in values]
        ops = ("is", "is_not") if spec.type == "choice" else ("has", "has_not")
        chosen = [k for k in known if k] or [_as_typed(v, text) for v in values]
        return [base | {"op": ops[said.not_], "value": chosen}]
    if m := re.match(r"(contains?|includes?|has|begins? with|starts? with) (.+)", bare):
        op = "begins" if m[1][0] in "bs" else "not_contains" if said.not_ else "contains"
        return [base | {"op": op, "value": _as_typed(m[2].strip(" “”\"'"), text)}]
    return [base | {"op": "is_not" if said.not_ else "is", "value": [_as_typed(v, text) for v in values]}]


def _date_lines(said: Said, spec: FieldSpec) -> list[Json]:
    when = said.when
    if when.kind in ("next", "within"):
        near: list[Json] = [{"op": "in_next", "value": when.days}, {"op": "yearly_next", "value": when.days}]
        if _YEARLY.search(fold(spec.label)) or _YEARLY.search(said.rest):
            near.reverse()
        return near + ([{"op": "in_last", "value": when.days}] if when.kind == "within" else [])
    if when.kind == "last":
        return [{"op": "in_last", "value": when.days}, {"op": "yearly_last", "value": when.days}]
    if when.kind in ("ago", "ahead"):
        return [{"op": when.kind, "value": when.days}]
    if when.kind == "between" and when.first and when.last:
        if when.first == when.last:
            return [{"op": "on", "value": when.first.isoformat()}]
        yearly = {"op": "day_month", "value": [f"{when.first:%m-%d}", f"{when.last:%m-%d}"]}
        exact = {"op": "between", "value": [when.first.isoformat(), when.last.isoformat()]}
        return [yearly, exact] if _YEARLY.search(fold(spec.label)) else [exact, yearly]
    if when.kind in ("since", "after") and when.first:
        day = when.first - dt.timedelta(days=when.kind == "since")
        return [{"op": "after", "value": day.isoformat()}]
    if when.kind in ("before", "until") and when.last:
        return [{"op": "before", "value": (when.last + dt.timedelta(days=when.kind == "until")).isoformat()}]
    return []


def _mails(said: Said, words: Dictionary) -> list[tuple[float, Json]]:
    found = []
    tokens = said.rest.split()
    for what, verbs in _MAIL.items():
        verb = next((v for v in verbs if set(v.split()) <= set(tokens)), None)
        if verb is None:
            continue
        others = [_stem(t) for t in tokens if t not in verb.split() and t not in _FILLER and t not in (
            "something", "anything", "mail", "mails", "email", "emails", "message",
            "messages", "newsletter", "letter", "campaign", "send", "link", "text", "texts",
            "sms", "notice", "notices", "push", "card", "cards")]
        channel = next((c for c, cue in _CHANNELS.items() if re.search(cue, said.rest)), "email" if re.search(r"\be?mails?\b", said.rest) else "")
        of: dict[str, int | str] = {"channel": channel} if channel else {}
        score = 0.7 if not others else 0.0
        for kind in ("message", "campaign", "send"):
            for number, name in words.named.get(kind, {}).items():
                likeness = _likeness(others, name)
                if likeness > 0.45 and likeness + 0.3 > score:
                    of, score = {kind: number}, likeness + 0.3
        tag = next((n for n, path in words.named.get("tag", {}).items() if others and _likeness(others, path.replace("/", " ")) > 0.6), None)
        if tag and score < 0.8:
            of, score = {"tag": tag}, 0.8
        if score:
            found.append((score, {"kind": "mail", "what": what, "did": not said.not_, "of": of,
                                  "times": said.times[1] if said.times and said.times[0] == "at_least" else 1,
                                  "span": _span(said.when), "among": "sent"}))
    return found


def _others(said: Said, words: Dictionary) -> list[tuple[float, Json]]:
    found: list[tuple[float, Json]] = []
    rest = said.rest
    if m := re.search(r"(\d+(?:\.\d+)?) ?(?:%|percent)", rest):
        found.append((0.8, {"kind": "share", "percent": float(m[1]), "salt": f"s{m[1].replace('.', '')}"}))
    channel = next((channel for channel, cue in _CHANNELS.items() if re.search(cue, rest)), "email")
    if re.search(r"\breach|\b(get|receive) (e-?mail|text|sms|notice|push|card)|\bmailable", rest):
        found.append((0.9, {"kind": "reach", "channel": channel, "can": not said.not_}))
    if re.search(r"\b(agree|consent|subscrib|opted|said|asked)", rest) and "unsubscrib" not in rest:
        state = "unasked" if "asked" in rest else "refused" if said.not_ or "opted out" in rest else "agreed"
        topics = {n: _likeness(_tokens(re.sub(r"\b(agreed?|consent\w*|subscribed?|opted|in|out|said|yes|asked|about)\b", " ", rest)), name)
                  for n, name in words.named.get("topic", {}).items()}
        best = max(topics, key=lambda n: topics[n], default=0)
        if topics.get(best, 0) > 0.4:
            found.append((0.75, {"kind": "consent", "topic": best, "state": state} | ({"channel": channel} if channel != "email" else {})))
        else:
            found.append((0.75, {"kind": "consent", "topic": 0, "channel": channel, "state": state}))
    if re.search(r"\btag(ged|s)?\b", rest):
        spoken = _tokens(re.sub(r"\b(has|have|bears?|is|are|a|the|tag(ged|s)?|with|as)\b", " ", rest))
        found += [(0.6 + likeness / 3, {"kind": "tag", "tag": number, "inside": not said.not_})
                  for number, path in words.named.get("tag", {}).items()
                  if (likeness := _likeness(spoken, re.sub("[/-]", " ", path))) > 0.4]
    scored = _tokens(re.sub(r"\b(scores?|points?|at least|more than|less than|under|over|\d+)\b", " ", rest))
    for number, name in words.named.get("score", {}).items():
        likeness = _likeness(scored, name) if scored else 0.5
        if likeness > 0.4 and (re.search(r"\b(score|point)", rest) or said.amount):
            op, value = said.amount or ("at_least", 1)
            op = {"is": "at_least"}.get(op, op)
            if op not in _OTHERWISE:
                continue
            found.append((0.5 + likeness / 3 + (0.2 if "score" in rest else 0),
                          {"kind": "score", "score": number, "op": _OTHERWISE[op] if said.not_ else op, "value": value}))
    for kind, cue in (("list", r"\blist\b"), ("segment", r"\bsegment\b")):
        for number, name in words.named.get(kind, {}).items():
            likeness = _likeness(_tokens(re.sub(cue, " ", rest)), name)
            if likeness > 0.6:
                named: Json = {"kind": kind, kind: number, "inside": not said.not_}
                found.append((likeness + (0.2 if re.search(cue, rest) else -0.25), named))
    return found
