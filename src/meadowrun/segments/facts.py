"""What the verdict on a message needs to know of people, as SQL, for each channel."""

from meadowrun.people.queries import NUMBER

#: What the verdict needs to know of each contact; callers may add columns, joins and a condition on `c`.
FACTS_SQL = """
SELECT c.id, c.email IS NOT NULL AS has_address, c.email_usable AS address_usable,
       s.address_key IS NOT NULL OR sd.address_key IS NOT NULL AS suppressed,
       c.bounced_at IS NOT NULL AS bounced, {topic} AS consent, ch.agreed AS channel_consent{columns}
FROM contacts c
LEFT JOIN suppressions s ON s.address_key = c.email_key
LEFT JOIN suppressions sd ON sd.address_key = '@' || split_part(c.email_key, '@', 2)
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'email' AND ch.topic_id = 0
{join}"""


#: The same for text messages, by phone number.
FACTS_SMS_SQL = f"""
SELECT c.id, c.phone IS NOT NULL AS has_address, {NUMBER} ~ '^[+][0-9]{{{{8,15}}}}$' AS address_usable,
       s.address_key IS NOT NULL AS suppressed, FALSE AS bounced, {{topic}} AS consent, ch.agreed AS channel_consent{{columns}}
FROM contacts c
LEFT JOIN suppressions s ON s.address_key = {NUMBER}
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'sms' AND ch.topic_id = 0
{{join}}"""


#: The same for push notices, by the browsers that gave permission.
FACTS_PUSH_SQL = """
SELECT c.id, EXISTS (SELECT 1 FROM push_devices p WHERE p.contact_id = c.id AND p.gone_at IS NULL) AS has_address, TRUE AS address_usable,
       FALSE AS suppressed, FALSE AS bounced, {topic} AS consent, ch.agreed AS channel_consent{columns}
FROM contacts c
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'push' AND ch.topic_id = 0
{join}"""
#: The same for in-app cards: they wait on the website for anyone who did not say no to them.
FACTS_CARD_SQL = """
SELECT c.id, TRUE AS has_address, TRUE AS address_usable, FALSE AS suppressed, FALSE AS bounced, {topic} AS consent,
       coalesce(ch.agreed, TRUE) AS channel_consent{columns}
FROM contacts c
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'card' AND ch.topic_id = 0
{join}"""
FACTS_BY_CHANNEL = {"sms": FACTS_SMS_SQL, "push": FACTS_PUSH_SQL, "card": FACTS_CARD_SQL}


def facts_sql(topic_id: int | None, columns: str = "", join: str = "", channel: str = "email") -> str:
    """What the verdict needs to know for a message of one topic, or of none, on a channel; `columns` begins with a comma."""
    facts = FACTS_BY_CHANNEL.get(channel, FACTS_SQL)
    if topic_id is None:
        return facts.format(topic="NULL::boolean", columns=columns, join=join)
    topic = f"LEFT JOIN consents t ON t.contact_id = c.id AND t.channel = '{channel}' AND t.topic_id = {int(topic_id)} "
    return facts.format(topic="t.agreed", columns=columns, join=topic + join)
