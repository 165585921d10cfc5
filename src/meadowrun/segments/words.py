"""Opening one word of a line: what its small form shows, and what an answer means for the line."""

import datetime as dt
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from werkzeug.datastructures import MultiDict

from meadowrun.core import values
from meadowrun.core.audience.edit import consent_about
from meadowrun.core.audience.english import MAIL_WORDS, OP_WORDS, STATE_WORDS
from meadowrun.core.audience.fields import Dictionary, EventSpec
from meadowrun.core.audience.operands import BLANK, IN_DAYS, OPERATORS, TOTALS, DefinitionError
from meadowrun.core.channels import CHANNEL_WORDS, KINDS
from meadowrun.core.values import is_whole
from meadowrun.people.queries import common_values

Json = dict[str, Any]


def context(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """What the template `segments/word.html` needs to show one word's form."""
    found: Json = {"node": node, "slot": slot, "op_words": OP_WORDS}
    if node["kind"] == "group" or slot == "match":
        return found | {"form": "match"}
    if node["kind"] == "field":
        spec = words.fields[node["field"]]
        found |= {"spec": spec, "label": spec.label}
        if slot == "field":
            return found | {"form": "about"}
        if slot == "op":
            return found | {
                "form": "op",
                "ops": (*OPERATORS[spec.type], *BLANK),
                "text": spec.type == "text",
            }
        if slot == "compare":
            return found | {"form": "compare"}
        suggested = list(spec.options)
        if spec.type in ("choice", "choices", "text") and not suggested:
            suggested = common_values(session, spec) if spec.type != "choices" else []
        return found | value_form(spec.type, node.get("op", ""), node.get("value"), suggested)
    if node["kind"] != "event":
        return found | _other(node, slot, words)
    event = words.events[node["event"]]
    found |= {"event": event, "label": event.did, "events": words.events}
    if slot == "event":
        return found | {"form": "about"}
    if slot in ("did", "times", "span", "then", "total"):
        return found | {
            "form": slot,
            "totals": TOTALS,
            "numbers": [d for d in event.details if d.type == "number"],
        }
    return found | _detail(session, node, slot, event)


def _other(node: Json, slot: str, words: Dictionary) -> Json:
    """The form of a word of a line about mail, consent, reach, a list, segment or part, or a
    share."""
    kind = node["kind"]
    if kind == "mail":
        if slot == "of":
            chosen = next(iter((node.get("of") or {}).items()), ("any", None))
            links = (
                words.links(int(chosen[1]))
                if chosen[0] == "message" and node["what"] == "clicked"
                else None
            )
            return {
                "form": "mail_of",
                "named": words.named,
                "chosen": chosen,
                "links": links or {},
                "one_of": {kind.key: (kind.one, kind.several) for kind in KINDS.values()},
            }
        return {"form": slot, "mail_words": MAIL_WORDS}
    if kind == "consent":
        channel, topic = node.get("channel", "email"), node["topic"]
        about = topic if channel == "email" else f"{channel}:{topic}" if topic else channel
        return {
            "form": slot,
            "topics": _consents(words, every=True),
            "about": about,
            "state_words": STATE_WORDS,
        }
    if kind == "reach":
        return {"form": slot, "channels": CHANNEL_WORDS}
    if kind == "score" and slot != "of":
        return (
            {"form": "op", "ops": TOTALS, "text": False}
            if slot == "op"
            else {
                "label": words.name("score", node["score"]),
                "form": "number",
                "value": node["value"],
            }
        )
    if kind == "part" and slot == "part":
        return {
            "form": "part",
            "parts": [
                *(words.partition(node["partition"]) or []),
                {"key": "else", "name": "everyone else"},
            ],
        }
    if slot == "of":
        return {"form": "named", "options": words.named.get(kind, {}), "chosen": node.get(kind)}
    return {"form": slot}


def value_form(kind: str, op: str, value: Any, suggested: list[str]) -> Json:
    """The form for a value of a type: choices, text, number, days, date or a pair of them."""
    chosen = value if isinstance(value, list) else [] if value is None else [value]
    if kind in ("choice", "choices") or kind == "text" and op in ("is", "is_not"):
        options = suggested + [v for v in chosen if v not in suggested and v != "…"]
        return {"form": "choices", "options": options, "chosen": chosen, "free": kind == "text"}
    if kind == "text":
        return {"form": "text", "value": value or ""}
    if kind == "number":
        return {"form": "pair" if op == "between" else "number", "value": value, "input": "number"}
    if op in IN_DAYS:
        return {"form": "days", "value": value}
    if op == "day_month":
        return {"form": "day_month", "value": value or ["12-01", "12-31"]}
    if op == "hours":
        return {"form": "pair", "value": value, "input": "time"}
    return {"form": "pair" if op == "between" else "date", "value": value, "input": "date"}


def _detail(session: orm.Session, node: Json, slot: str, event: EventSpec) -> Json:
    place = slot.removeprefix("where")
    index = int(place) if is_whole(place) else len(node.get("where", []))
    existing = node.get("where", [])[index] if index < len(node.get("where", [])) else None
    occurred = {}
    for detail in event.details:
        if detail.type == "text":
            occurred[detail.key] = [
                (row[0], row[1])
                for row in session.execute(
                    sa.text(
                        "SELECT v, count(*) FROM (SELECT details->>:key AS v FROM events WHERE "
                        "kind_id = :kind ORDER BY at DESC "
                        "LIMIT 20000) x WHERE v IS NOT NULL GROUP BY v ORDER BY count(*) DESC "
                        "LIMIT 60"
                    ),
                    {"key": detail.key, "kind": event.id},
                )
            ]
    return {
        "form": "detail",
        "index": index,
        "existing": existing,
        "occurred": occurred,
        "operators": OPERATORS,
    }


def patch(node: Json, slot: str, form: MultiDict[str, str], words: Dictionary) -> Json:
    """The change to a line's JSON that an answered form asks for. Raises DefinitionError with words
    for the author."""
    if slot == "match":
        return {"match": form.get("match", "any")}
    if slot == "op":
        return {"op": form.get("op", "")} | (
            {"compare": form["compare"]} if form.get("compare") else {}
        )
    if slot == "compare":
        return {"compare": form.get("compare", "letters")}
    if node["kind"] == "field":
        spec = words.fields[node["field"]]
        return {"value": read_value(spec.type, node.get("op", ""), form, node["id"])}
    if slot == "span" and node["kind"] == "mail":
        if form.get("span") == "latest":
            return {"span": {}, "latest": whole(form.get("latest"), node["id"])}
        return {"span": _span(form, node["id"]), "latest": None}
    if slot == "span":
        return {"span": _span(form, node["id"])}
    if node["kind"] != "event":
        return _patch_other(node, slot, form)
    if slot == "did":
        # What only somebody who did can be asked goes when it turns into “did not”.
        return (
            {"did": True}
            if form.get("did") == "yes"
            else {"did": False, "which": "any", "total": None, "then": None}
        )
    if slot == "times":
        which = form.get("which", "any")
        patch: Json = {
            "times": {
                "op": form.get("times_op", "at_least"),
                "n": whole(form.get("n"), node["id"]),
            },
            "did": True,
            "which": which,
        }
        return (
            patch
            if which == "any"
            else patch | {"total": None, "then": None, "times": {"op": "at_least", "n": 1}}
        )
    if slot == "total":
        if form.get("remove"):
            return {"total": None}
        return {
            "total": {
                "detail": form.get("detail"),
                "op": form.get("total_op", "at_least"),
                "value": _number(form.get("value", ""), node["id"]),
            },
            "did": True,
            "which": "any",
        }
    if slot == "then":
        if form.get("remove"):
            return {"then": None}
        return {
            "then": {
                "event": form.get("event"),
                "did": form.get("then_did") == "yes",
                "days": whole(form.get("days"), node["id"]),
            },
            "did": True,
            "which": "any",
        }
    return _patch_detail(node, slot, form, words)


def _patch_other(node: Json, slot: str, form: MultiDict[str, str]) -> Json:
    kind, ident = node["kind"], node["id"]
    if kind == "mail":
        if slot == "what":
            what, _, did = form.get("pair", "").partition(":")
            return {"what": what, "did": did == "yes", "link": None} | (
                {"latest": None} if what == "sent" else {}
            )
        if slot == "among":
            return {"among": form.get("among")}
        chosen, _, name = form.get("of", "any").partition(":")
        of: Json = (
            {} if chosen == "any" else {chosen: name if chosen == "channel" else whole(name, ident)}
        )
        link = form.get("link", "")
        same = of == (node.get("of") or {})
        return {
            "of": of,
            "times": whole(form.get("times") or "1", ident),
            "link": int(link) if is_whole(link) and same else None,
        }
    if kind == "consent":
        return (
            {"state": form.get("state")}
            if slot == "state"
            else consent_about(form.get("topic", ""))
        )
    if kind == "reach":
        return (
            {"channel": form.get("channel")}
            if slot == "channel"
            else {"can": form.get("can") == "yes"}
        )
    if kind == "score" and slot == "value":
        return {"value": _number(form.get("value", ""), ident)}
    if kind == "share":
        return {"percent": _number(form.get("value", ""), ident)}
    if slot == "inside":
        return {"inside": form.get("inside") == "yes"}
    return {"part": form.get("part")} if slot == "part" else {kind: whole(form.get("of"), ident)}


def _patch_detail(node: Json, slot: str, form: MultiDict[str, str], words: Dictionary) -> Json:
    where = [dict(w) for w in node.get("where", [])]
    place = slot.removeprefix("where")
    index = int(place) if is_whole(place) else len(where)
    if form.get("remove"):
        return {"where": where[:index] + where[index + 1 :]}
    detail = words.events[node["event"]].detail(form.get("detail", ""))
    if detail is None:
        raise DefinitionError("Choose a detail.", node["id"])
    op = form.get(f"op-{detail.key}", OPERATORS[detail.type][0])
    single = MultiDict(
        [
            ("value", form.get(f"value-{detail.key}", "")),
            ("second", form.get(f"second-{detail.key}", "")),
        ]
    )
    made = {
        "detail": detail.key,
        "op": op,
        "value": read_value(detail.type, op, single, node["id"]),
    }
    return {"where": [*where[:index], made, *where[index + 1 :]]}


def _span(form: MultiDict[str, str], ident: str) -> Json:
    kind = form.get("span", "last")
    if kind == "ever":
        return {}
    if kind == "last":
        return {"last": whole(form.get("days"), ident)}
    return {k: day(form[k], ident) for k in ("from", "to") if form.get(k)}


def read_value(kind: str, op: str, form: MultiDict[str, str], ident: str) -> Any:
    """A condition's value from its form, in the definition's JSON."""
    if kind in ("choice", "choices") or kind == "text" and op in ("is", "is_not"):
        chosen = [v for v in form.getlist("value") if v]
        chosen += [v.strip() for v in form.get("typed", "").split("\n") if v.strip()]
        if not chosen:
            raise DefinitionError("Choose at least one.", ident)
        return list(dict.fromkeys(chosen))
    text = form.get("value", "")
    if kind == "text":
        if not text.strip():
            raise DefinitionError("Type some text.", ident)
        return text.strip()
    if kind == "number":
        if op == "between":
            return [_number(text, ident), _number(form.get("second", ""), ident)]
        return _number(text, ident)
    if op in IN_DAYS:
        return whole(text, ident)
    if op == "day_month":
        return [
            f"{whole(form.get(f'month{n}'), ident):02d}-{whole(form.get(f'day{n}'), ident):02d}"
            for n in (1, 2)
        ]
    if op == "hours":
        return [text, form.get("second", "")]
    if op == "between":
        return [day(text, ident), day(form.get("second", ""), ident)]
    return day(text, ident)


def whole(text: str | None, ident: str) -> int:
    try:
        return int(text or "")
    except ValueError:
        raise DefinitionError(f"“{text}” is not a whole number.", ident) from None


def day(text: str, ident: str) -> str:
    try:
        return dt.date.fromisoformat(text).isoformat()
    except ValueError:
        raise DefinitionError(f"“{text}” is not a date.", ident) from None


def _number(text: str, ident: str) -> float | int:
    try:
        return values.number(text)
    except values.ValueProblem as problem:
        raise DefinitionError(f"{problem}.", ident) from None


def _consents(words: Dictionary, every: bool = False) -> Mapping[int | str, str]:
    """What one can agree to: all email or a topic of it, by number; another channel by its name;
    with `every`, topics there, too."""
    topics = words.named.get("topic", {})
    found: dict[int | str, str] = {0: "all email", **topics}
    others = {channel: name for channel, name in CHANNEL_WORDS.items() if channel != "email"}
    found |= others
    if every:
        found |= {
            f"{channel}:{number}": f"{topic} in {name}"
            for channel, name in others.items()
            for number, topic in topics.items()
        }
    return found


def picks(words: Dictionary) -> Mapping[str, list[tuple[str, str]]]:
    """What a new line can be about, grouped: (about, words)."""
    groups: dict[str, list[tuple[str, str]]] = {
        "who did": [
            (f"event:{event.key}", event.did)
            for event in words.events.values()
            if not event.retired
        ],
        "whose": [],
        "whose company’s": [],
        "what we sent": [
            (f"mail:{what}", f"{did} a message") for what, (did, _) in MAIL_WORDS.items()
        ],
        "who agreed to": [(f"consent:{about}", name) for about, name in _consents(words).items()],
        "who is": [
            *(
                (f"reach:{channel}", f"reachable by {name}")
                for channel, name in CHANNEL_WORDS.items()
            ),
            ("share:10", "in a steady share picked by chance"),
            *(
                (f"list:{n}", f"on the list “{name}”")
                for n, name in words.named.get("list", {}).items()
            ),
            *(
                (f"segment:{n}", f"in the segment “{name}”")
                for n, name in words.named.get("segment", {}).items()
            ),
            *((f"tag:{n}", f"tagged “{path}”") for n, path in words.named.get("tag", {}).items()),
            *(
                (f"part:{n}", f"in a part of “{name}”")
                for n, name in words.named.get("partition", {}).items()
            ),
        ],
    }
    groups["whose"] += [
        (f"score:{n}", f"score “{name}”") for n, name in words.named.get("score", {}).items()
    ]
    for spec in words.fields.values():
        if spec.retired:
            continue
        groups["whose company’s" if spec.owner == "company" else "whose"].append(
            (f"field:{spec.ref}", spec.label)
        )
    ordered = ("what we sent", "who is")
    return {
        name: items if name in ordered else sorted(items, key=lambda i: i[1])
        for name, items in groups.items()
        if items
    }
