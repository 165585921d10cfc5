"""The one door out: whatever sends something, it leaves here."""

from meadowrun.base.manifest import Feature, Way
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
        Way(
            Wording("Message limits"),
            "caps.table",
            Wording("frequency caps pressure fatigue too many per week"),
        ),
        Way(
            Wording("Who gets most messages"),
            "caps.pressure_page",
            Wording("pressure frequency tired"),
        ),
        Way(
            Wording("Quiet hours and holidays"),
            "quiet.table",
            Wording("night weekend not disturb calendar"),
        ),
        Way(
            Wording("Best hours"),
            "best_hours.show",
            Wording("when people open timing time of day"),
        ),
        Way(
            Wording("Rules for everything you send"),
            "sending.show",
            Wording(
                "approval approve control group holdout switch pause stop all everything allowance "
                "names soft bounces replies"
            ),
        ),
        Way(
            Wording("How fast emails leave"),
            "speeds.table",
            Wording("warm-up throttle speed new domain"),
        ),
    ),
    tasks=("jobs",),
    waits=doubts,
    says={"reason": reason_words, "paused_since": paused_since},
)
