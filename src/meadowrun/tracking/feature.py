"""What comes back: openings, clicks, events, unsubscribing, what gateways tell."""

from meadowrun.base.manifest import Feature

FEATURE = Feature(pages={"views": "", "site_views": ""})
