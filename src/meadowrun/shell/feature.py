"""Layout, sign-in and the clock, which everything else stands on."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording
from meadowrun.shell import unusual

FEATURE = Feature(
    pages={"views": "", "sign_in_views": "", "colleagues_views": "", "keys_views": ""},
    tasks=("jobs",),
    waits=unusual.waits,
    does=(
        Way(
            Wording("Website script and API keys"),
            "keys.table",
            Wording("tracking code developer integration connections pixel"),
        ),
        Way(
            Wording("Colleagues"),
            "colleagues.table",
            Wording("users team roles invite permissions deactivate"),
        ),
        Way(
            Wording("Who changed what"),
            "shell.changes",
            Wording("audit log history changes"),
        ),
        Way(
            Wording("Your sign-in and notifications"),
            "sign_in.own",
            Wording("sign-in sign out log security account two-factor 2fa notifications"),
        ),
    ),
)
