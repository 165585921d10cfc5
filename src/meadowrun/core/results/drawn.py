"""How often each link of an email was clicked, drawn on the email itself."""

import dataclasses
import re
from collections.abc import Mapping

from markupsafe import escape

#: The start of a link of ours, with its number, and the end of it.
_LINK = re.compile(r'<a\b[^>]*\shref="[^"]*/c/[^"/]*/(\d+)"[^>]*>', re.I)
_END = re.compile(r"</a\s*>", re.I)
#: From pale to deep: how the badge of a link looks by its share of the most clicked one.
_TONES = ((0.66, "#2e5e45", "#ffffff"), (0.33, "#7fa48c", "#10241a"), (0.0, "#e4ece6", "#10241a"))


@dataclasses.dataclass(frozen=True, slots=True)
class Badge:
    """What stands beside one link: a few words, and how often it was clicked, as a share from 0 to
    1 of the one that was clicked most."""

    text: str
    share: float

    def html(self) -> str:
        """The badge as it stands in the email."""
        _, ground, ink = next(tone for tone in _TONES if self.share >= tone[0])
        return (
            '<span style="display:inline-block;margin:2px 4px;padding:1px 7px;border-radius:9px;'
            f"font:bold 12px/16px sans-serif;text-decoration:none;background:{ground};color:{ink};"
            'box-shadow:0 0 0 2px #ffffff;vertical-align:middle;white-space:nowrap">'
            f"{escape(self.text)}</span>"
        )


def with_badges(html: str, badges: Mapping[int, Badge]) -> tuple[str, set[int]]:
    """The HTML of an email with a badge inside each link of ours, before its end, and the numbers
    of the links that were found in it. A link without a badge, and one whose end is missing, stays
    as it is."""
    made, place, found = [], 0, set[int]()
    for link in _LINK.finditer(html):
        number = int(link[1])
        end = _END.search(html, link.end())
        if end is None or number not in badges:
            continue
        found.add(number)
        made += [html[place : end.start()], badges[number].html()]
        place = end.start()
    return "".join([*made, html[place:]]), found
