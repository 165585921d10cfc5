"""What the village's people make of what reaches them by text, push notification or in-app message,
and when they come by on the website.

Like their mail (`post.make_up_mind`) it follows from their hidden truth, and is the same for the
same message whenever asked.
"""

import dataclasses
import hashlib
import random
import re
from collections.abc import Mapping, Sequence
from typing import Any

from meadowrun.village.store import Resident

#: Of so many residents one comes by on the website in a day without being asked.
STROLLS = 400
AMOUNTS = (8, 12, 16, 24, 24, 36, 48)
_LINK = re.compile(r"https?://[^\s]+")
#: Short messages are looked at by more people than follow a link in a mail.
_NEARER = 1.5


@dataclasses.dataclass(frozen=True, slots=True)
class Plan:
    """A deed at a moment (seconds since 1970); `detail` is what the deed needs."""

    due: float
    deed: str
    detail: dict[str, Any]


def dice_of(*seeds: str) -> random.Random:
    return random.Random(hashlib.sha256("\0".join(seeds).encode()).digest())


def _tapped(
    dice: random.Random, resident: Resident, contact: str, link: str, at: float
) -> list[Plan]:
    plans = [Plan(at, "tap", {"link": link, "contact": contact})]
    if dice.random() < resident.buys:
        plans.append(
            Plan(
                at + dice.uniform(300, 20_000),
                "spend",
                {"contact": contact, "amount": dice.choice(AMOUNTS)},
            )
        )
    return plans


def of_text(
    resident: Resident, contact: str, key: str, number: str, text: str, sent: float
) -> list[Plan]:
    """A text is read within minutes; some follow its link, a few want no more."""
    dice = dice_of(resident.address, key)
    if text.startswith("[Proof]"):
        return []
    read = sent + 30 + dice.expovariate(1 / 900)
    if dice.random() < resident.leaves * _NEARER:
        return [Plan(read, "answer", {"number": number, "text": "Stop"})]
    links = _LINK.findall(text)
    return (
        _tapped(dice, resident, contact, links[0], read)
        if links and dice.random() < resident.clicks * _NEARER
        else []
    )


def of_notification(
    resident: Resident, contact: str, key: str, payload: Mapping[str, Any], sent: float
) -> list[Plan]:
    """A push notification is tapped soon or never; now and then it is one of its buttons."""
    dice = dice_of(resident.address, key)
    if str(payload.get("title", "")).startswith("[Proof]"):
        return []
    links = [
        str(link)
        for link in (payload.get("url"), *(b.get("href") for b in payload.get("buttons") or ()))
        if link
    ]
    if not links or dice.random() >= resident.clicks * _NEARER:
        return []
    return _tapped(
        dice,
        resident,
        contact,
        links[0] if dice.random() < 0.75 else dice.choice(links),
        sent + 20 + dice.expovariate(1 / 1800),
    )


def of_in_app(
    resident: Resident, token: str, buttons: Sequence[Mapping[str, Any]], moment: str
) -> tuple[bool, int | None]:
    """Whether somebody answers an in-app message, and the number of the button they press; None
    closes it."""
    dice = dice_of(resident.address, token, moment)
    acts = [b.get("act") for b in buttons]
    if dice.random() < resident.clicks * _NEARER:
        for number, act in enumerate(acts):
            if act in ("open", "event", "allow"):
                return True, number
    if "later" in acts and dice.random() < 0.4:
        return True, acts.index("later")
    return dice.random() < 0.7, None


def strolls(people: Sequence[str], start: float, end: float) -> list[Plan]:
    """Who comes by on the website between two moments; `people` are the contacts' numbers."""
    dice = dice_of("strolls", f"{start:.0f}", f"{end:.0f}")
    expected = len(people) / STROLLS * max(0.0, end - start) / 86_400
    count = int(expected) + (dice.random() < expected % 1)
    return sorted(
        (
            Plan(dice.uniform(start, end), "stroll", {"contact": contact})
            for contact in dice.sample(people, min(count, len(people)))
        ),
        key=lambda plan: plan.due,
    )
