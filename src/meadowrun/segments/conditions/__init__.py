"""The kinds of condition that segments bring; later features add theirs in their manifests."""

from meadowrun.segments.conditions import consent, event, field, groups, mail, sets, share

CONDITIONS = (
    groups.CONDITION,
    field.CONDITION,
    event.CONDITION,
    mail.CONDITION,
    consent.CONSENT,
    consent.REACH,
    sets.LIST,
    sets.SEGMENT,
    sets.GROUPING,
    sets.TAG,
    share.CONDITION,
)
