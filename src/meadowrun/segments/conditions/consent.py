"""Consent and reach: their SQL, and their forms."""

from sqlalchemy import orm

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.consent import STATE_WORDS, consent_about
from meadowrun.core.audience.nodes import ConsentLine, ReachLine
from meadowrun.core.channels import CHANNEL_WORDS, USUAL
from meadowrun.gateways.channels import CHANNELS
from meadowrun.segments.compile import SEPARATE, Compiler
from meadowrun.segments.condition import Condition, Form, Json
from meadowrun.segments.conditions.values import consents

_SAID = (
    "c.id {1} (SELECT s.contact_id FROM consents s WHERE s.channel = '{0}' AND s.topic_id = "
    "0 AND {2})"
)


def consent_sql(compiler: Compiler, node: ConsentLine) -> str:
    """What was said to a channel or topic. A no to the whole channel outweighs a yes to a
    topic, as it does when something is sent."""
    said = {"agreed": " AND s.agreed", "refused": " AND NOT s.agreed", "unasked": ""}[node.state]
    asked = (
        f"SELECT s.contact_id FROM consents s WHERE s.channel = '{node.channel}' AND "
        f"s.topic_id = {node.topic}{said}{_only(compiler)}"
    )
    own = f"c.id {'NOT IN' if node.state == 'unasked' else 'IN'} ({asked})"
    if node.topic and node.state == "agreed":
        refused = f"NOT s.agreed{_only(compiler)}"
        own = f"({own} AND {_SAID.format(node.channel, 'NOT IN', refused)})"
    return f"({own}){SEPARATE}"


def _only(compiler: Compiler) -> str:
    return "".join(f" AND {one}" for one in compiler.only("s.contact_id"))


def reach_sql(compiler: Compiler, node: ReachLine) -> str:
    """Whether a message of no topic could go to them now, as the channel says it."""
    can = CHANNELS[node.channel].can.format(
        agreed=_SAID.format(node.channel, "IN", f"s.agreed{_only(compiler)}"),
        unless=_SAID.format(node.channel, "NOT IN", f"NOT s.agreed{_only(compiler)}"),
    )
    can = f"({can}) AND c.paused_until IS NULL"
    return f"({can}){SEPARATE}" if node.can else f"({can}) IS NOT TRUE"


def consent_form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """What was said, and to what."""
    channel, topic = node.get("channel", USUAL), node["topic"]
    about = topic if channel == USUAL else f"{channel}:{topic}" if topic else channel
    return {
        "form": slot,
        "topics": consents(words, every=True),
        "about": about,
        "state_words": STATE_WORDS,
    }


def consent_patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """The answer to one of the forms."""
    if slot == "state":
        return {"state": given.get("state")}
    return consent_about(given.get("topic", ""))


def reach_form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """Which channel, and whether it can reach them."""
    return {"form": slot, "channels": CHANNEL_WORDS}


def reach_patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """The answer to one of the forms."""
    if slot == "channel":
        return {"channel": given.get("channel")}
    return {"can": given.get("can") == "yes"}


CONSENT = Condition("consent", consent_sql, consent_form, consent_patch)
REACH = Condition("reach", reach_sql, reach_form, reach_patch)
