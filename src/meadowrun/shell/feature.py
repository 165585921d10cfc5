"""Layout, sign-in and the clock, which everything else stands on."""

from meadowrun.base.manifest import Feature

FEATURE = Feature(
    pages={"views": "", "sign_in_views": "", "colleagues_views": ""},
    tasks=("jobs",))
