"""The one door out: whatever sends something, it leaves here."""

from meadowrun.base.manifest import Feature
from meadowrun.core.guardrails.outcomes import reason_words
from meadowrun.core.language import Wording
from meadowrun.outgoing.asked import paused_since
from meadowrun.outgoing.waiting import doubts

FEATURE = Feature(
    pages={
        "proof_views": Wording("Messages"),
        "cap_views": Wording("Campaigns"),
        "quiet_views": Wording("Campaigns"),
        "best_hour_views": Wording("Campaigns"),
        "rules_views": Wording("Campaigns"),
        "speed_views": Wording("Campaigns"),
    },
    does=(
        (Wording("Message limits"), "caps.table"),
        (Wording("Quiet hours and holidays"), "quiet.table"),
        (Wording("Best hours"), "best_hours.show"),
        (Wording("Rules for everything you send"), "sending.show"),
        (Wording("How fast emails leave"), "speeds.table"),
    ),
    tasks=("jobs",),
    waits=doubts,
    says={"reason": reason_words, "paused_since": paused_since},
)
