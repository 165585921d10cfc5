"""Layout, sign-in and the clock, which everything else stands on."""

from meadowrun.base.manifest import Feature
from meadowrun.core.language import Wording
from meadowrun.shell import unusual

FEATURE = Feature(
    pages={"views": "", "sign_in_views": "", "colleagues_views": "", "keys_views": ""},
    tasks=("jobs",),
    waits=unusual.waits,
    does=((Wording("Website script and API keys"), "keys.table"),),
)
