"""What the verdict on a message needs to know of people, as SQL, for each channel."""

from meadowrun.gateways.channels import CHANNELS


def facts_sql(
    topic_id: int | None, columns: str = "", join: str = "", channel: str = "email"
) -> str:
    """What the verdict needs to know for a message of one topic, or of none, on a channel;
    `columns` begins with a comma."""
    facts = CHANNELS[channel].facts
    columns = f", c.paused_until IS NOT NULL AS paused{columns}"
    if topic_id is None:
        return facts.format(topic="NULL::boolean", columns=columns, join=join)
    topic = (
        f"LEFT JOIN consents t ON t.contact_id = c.id AND t.channel = '{channel}' AND "
        f"t.topic_id = {int(topic_id)} "
    )
    return facts.format(topic="t.agreed", columns=columns, join=topic + join)
