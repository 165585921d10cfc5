"""Opening one word of a line: what its small form shows, what an answer means for the line; and
what a new line can be about."""

from collections.abc import Mapping

from sqlalchemy import orm

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.mail import MAIL_WORDS
from meadowrun.core.audience.saying import OP_WORDS
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.segments.condition import Form, Json, condition_of
from meadowrun.segments.conditions.values import consents


def context(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """What the template `segments/word.html` needs to show one word's form."""
    condition = condition_of("group" if slot == "match" else node["kind"])
    found: Json = {"node": node, "slot": slot, "op_words": OP_WORDS}
    return found | condition.form(session, node, slot, words)


def patch(node: Json, slot: str, form: Form, words: Dictionary) -> Json:
    """The change to a line's JSON that an answered form asks for. Raises DefinitionError with words
    for the author."""
    condition = condition_of("group" if slot == "match" else node["kind"])
    return condition.patch(node, slot, form, words)


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
        "who agreed to": [(f"consent:{about}", name) for about, name in consents(words).items()],
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
                (f"grouping:{n}", f"in a group of “{name}”")
                for n, name in words.named.get("grouping", {}).items()
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
