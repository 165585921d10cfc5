"""The demo world as numbers: who there is, what they are like (the hidden truth), and what they
did.

Deterministic for a seed and a scale; dated relative to the day it is made for.
"""

import dataclasses
import datetime as dt
import json
from typing import Any

import numpy as np
from numpy.typing import NDArray

from meadowrun.core.wording import fold
from meadowrun.demo import names
from meadowrun.village.store import Doing, Habit, Resident

SEED = 20261123
MONTHS = 14
DAYS = MONTHS * 30.4
#: Members do so many times as much as others.
MEMBERS_DO = 2.2
TIERS = ("Student", "Single", "Household", "Patron")
INTERESTS = ("planets", "deep sky", "photography", "history", "children", "meteors")
#: kind → (did, do, details, events per contact over the whole time)
KINDS: dict[str, tuple[str, str, dict[str, str], float]] = {
    "page_viewed": ("viewed a page", "view a page", {"page": "text"}, 13.0),
    "tickets_viewed": ("looked at tickets", "look at tickets", {"night": "text"}, 3.4),
    "ticket_bought": (
        "bought a ticket",
        "buy a ticket",
        {"amount": "number", "night": "text"},
        1.5,
    ),
    "visited": ("visited the dome", "visit the dome", {"night": "text"}, 1.2),
    "lecture_booked": ("booked a lecture", "book a lecture", {"lecture": "text"}, 0.7),
    "lecture_attended": ("came to a lecture", "come to a lecture", {"lecture": "text"}, 0.5),
    "app_opened": ("opened the sky guide", "open the sky guide", {}, 3.2),
    "membership_started": ("started a membership", "start a membership", {"tier": "text"}, 0.06),
    "membership_renewed": ("renewed a membership", "renew a membership", {"tier": "text"}, 0.18),
    "membership_lapsed": (
        "let a membership lapse",
        "let a membership lapse",
        {"tier": "text"},
        0.05,
    ),
    "enquiry_sent": ("sent an enquiry", "send an enquiry", {"subject": "text"}, 0.12),
    "shop_ordered": ("ordered from the shop", "order from the shop", {"amount": "number"}, 0.35),
    "donated": ("donated", "donate", {"amount": "number"}, 0.12),
    "survey_answered": ("answered a survey", "answer a survey", {"score": "number"}, 0.25),
}


@dataclasses.dataclass
class World:
    """Contacts are numbered from 1; arrays run over them in order. `moment` is now, in this
    world."""

    moment: dt.datetime
    scale: int
    dice: np.random.Generator
    first: list[str | None]
    last: list[str | None]
    email: list[str | None]
    town: NDArray[np.int64]
    tier: NDArray[np.int64]
    activity: NDArray[np.float64]
    hour: NDArray[np.int64]
    opens: NDArray[np.float64]
    clicks: NDArray[np.float64]
    buys: NDArray[np.float64]
    fate: list[str]
    prefetches: NDArray[np.bool_]
    company: NDArray[np.int64]
    created_days: NDArray[np.int64]
    companies: list[tuple[str, str, dict[str, Any]]]

    def introductions(self) -> list[tuple[str, str, str]]:
        """Every resident's contact number, address, and telephone number as gateways write it, or
        nothing."""
        return [
            (str(i + 1), e.lower(), (phone(i) or "").replace(" ", ""))
            for i, e in enumerate(self.email)
            if e and "@" in e
        ]

    def residents(self) -> list[Resident]:
        return [
            Resident(
                e.lower(),
                self.fate[i],
                float(self.opens[i]),
                float(self.clicks[i]),
                float(self.buys[i]),
                0.004,
                0.0006,
                bool(self.prefetches[i]),
                int(self.hour[i]),
            )
            for i, e in enumerate(self.email)
            if e and "@" in e
        ]

    def habits(self) -> list[Habit]:
        """How often who does anything without being written to."""
        weight = self.activity * np.where(self.tier >= 0, MEMBERS_DO, 1.0)
        return [
            Habit(
                str(i + 1),
                float(weight[i]),
                int(self.hour[i]),
                TIERS[self.tier[i]] if self.tier[i] >= 0 else "",
            )
            for i in range(self.scale)
        ]

    def doings(self) -> list[Doing]:
        """What people go on doing, as often as in the past: but for pages of the website, which
        its script tells."""
        some = np.arange(min(self.scale, 60))
        found = []
        for kind, (_, _, _, rate) in KINDS.items():
            if kind != "page_viewed":
                members = kind.startswith("membership")
                texts = [] if members else _details(self, kind, some, len(some))
                options = sorted({one for one in texts if one})
                found.append(Doing(kind, self.scale * rate / DAYS, members, options))
        return found


def phone(i: int) -> str | None:
    """The number of contact `i + 1`, where there is one. The range kept for fiction has a thousand
    mobile numbers."""
    return f"+44 7700 900{i // 24 % 1000:03d}" if i % 24 == 5 else None


def make(scale: int, moment: dt.datetime, seed: int = SEED) -> World:
    """The people of a world of `scale` contacts, as of `moment`."""
    dice = np.random.default_rng([seed, scale])
    first: list[str | None] = list(
        np.array(names.FIRST, dtype=object)[dice.integers(0, len(names.FIRST), scale)]
    )
    last: list[str | None] = list(
        np.array(names.LAST, dtype=object)[dice.integers(0, len(names.LAST), scale)]
    )
    blank = dice.random(scale)
    odd = dice.random(scale)
    emails: list[str | None] = []
    fates: list[str] = []
    fate = dice.random(scale)
    hosts = ("post.example", "hillmail.example", "tarn.example", "mail.example", "home.example")
    for i in range(scale):
        local = ".".join(fold(name or "").replace(" ", "") for name in (first[i], last[i]))
        local = f"{local}{i + 1}"
        local = "".join(c for c in local if c.isascii() and (c.isalnum() or c in ".-"))
        emails.append(f"{local}@{hosts[i % 5]}")
        fates.append(
            "gone"
            if fate[i] < 0.012
            else "returns"
            if fate[i] < 0.016
            else "full"
            if fate[i] < 0.02
            else "takes"
        )
        if odd[i] < 0.008:
            emails[i] = None
        elif odd[i] < 0.012:
            emails[i] = f"{local}.post.example"
        if blank[i] < 0.016:
            first[i] = None
        elif blank[i] < 0.03:
            first[i] = (first[i] or "").upper()
    activity = dice.gamma(0.9, 1.1, scale)
    member = dice.random(scale) < np.clip(0.12 + 0.22 * activity, 0, 0.85)
    tier = np.where(member, dice.choice(4, scale, p=[0.2, 0.34, 0.34, 0.12]), -1)
    opens = np.clip(
        dice.beta(2.2, 2.6, scale) * (0.7 + 0.3 * np.tanh(activity)) + 0.08 * member, 0, 0.97
    )
    kinds = list(names.COMPANY_KINDS)
    companies = []
    for n in range(max(10, scale // 40)):
        kind = kinds[int(dice.choice(3, p=[0.5, 0.3, 0.2]))]
        endings = names.COMPANY_KINDS[kind]
        name = f"{names.COMPANY_FIRST[n % 15]} {endings[int(dice.integers(len(endings)))]}"
        ends = moment.date() + dt.timedelta(days=int(dice.integers(-120, 500)))
        companies.append(
            (
                f"{name} {n // 15 + 1}" if n >= 15 else name,
                kind,
                {
                    "kind": kind,
                    "agreement_ends": ends.isoformat(),
                    "pupils": int(dice.integers(40, 1400)),
                }
                if kind == "School"
                else {"kind": kind, "agreement_ends": ends.isoformat()},
            )
        )
    return World(
        moment,
        scale,
        dice,
        first,
        last,
        emails,
        dice.choice(5, scale, p=names.TOWN_SHARES),
        tier,
        activity,
        np.clip(
            np.round(dice.normal(dice.choice([8, 13, 20], scale, p=[0.3, 0.2, 0.5]), 1.6)), 0, 23
        ).astype(np.int64),
        opens,
        np.clip(dice.beta(1.6, 9, scale) + 0.05 * member, 0, 0.6),
        np.clip(0.06 + 0.1 * np.tanh(activity), 0, 0.35),
        fates,
        dice.random(scale) < 0.14,
        np.where(dice.random(scale) < 0.07, dice.integers(0, len(companies), scale), -1),
        np.minimum((dice.gamma(2.0, 320, scale)).astype(np.int64), 3000),
        companies,
    )


def attributes(world: World, i: int, day: dt.date) -> dict[str, Any]:
    """A contact's own fields."""
    found: dict[str, Any] = {
        "region": "Farrow Vale" if world.town[i] in (0, 3) else names.TOWNS[world.town[i]]
    }
    mix = (i * 2654435761) % 1_000_003
    if world.tier[i] >= 0:
        found["membership"] = TIERS[world.tier[i]]
        found["renewal_date"] = (day + dt.timedelta(days=mix % 365 - 20)).isoformat()
        found["member_since"] = (day - dt.timedelta(days=int(world.created_days[i]))).isoformat()
    if mix % 10 < 6:
        found["birthday"] = (dt.date(1944, 1, 1) + dt.timedelta(days=mix % 24_000)).isoformat()
    if mix % 4:
        found["interests"] = sorted({INTERESTS[mix % 6], INTERESTS[(mix // 7) % 6]})
    found["lends_telescope"] = mix % 17 == 0
    found["involvement"] = round(float(world.activity[i]) * 40)
    return found


def events(
    world: World, kind: str, rate: float
) -> tuple[NDArray[np.int64], NDArray[np.int64], list[str | None]]:
    """One kind's events: contact numbers, seconds since the epoch, details as JSON.

    Who is active does more; the dark half of the year sees more; each person has an hour they like.
    """
    dice, count = world.dice, int(world.scale * rate)
    weight = world.activity * np.where(world.tier >= 0, MEMBERS_DO, 1.0)
    if kind.startswith("membership"):
        weight = weight * (world.tier >= 0)
    edges = np.cumsum(weight)
    who = np.searchsorted(edges, dice.random(count) * edges[-1])
    end = world.moment.timestamp()
    back = dice.random(int(count * 1.7)) * DAYS
    season = 0.62 + 0.38 * np.cos(
        2 * np.pi * ((world.moment.timetuple().tm_yday - back) - 350) / 365.25
    )
    back = back[dice.random(len(back)) < season][:count]
    back = (
        np.concatenate([back, dice.random(count - len(back)) * DAYS]) if len(back) < count else back
    )
    hour = (world.hour[who] * 3600 + dice.normal(0, 4200, count)).astype(np.int64) % 86_400
    at = (np.floor((end - back * 86_400) / 86_400) * 86_400).astype(np.int64) + hour
    at = np.minimum(at, int(end) - 60)
    return who + 1, at, _details(world, kind, who, count)


def _details(world: World, kind: str, who: NDArray[np.int64], count: int) -> list[str | None]:
    dice = world.dice

    def pick(options: tuple[str, ...], key: str) -> list[str | None]:
        texts = [json.dumps({key: o}, ensure_ascii=False) for o in options]
        return [texts[i] for i in dice.integers(0, len(options), count)]

    if kind == "page_viewed":
        return pick(names.PAGES, "page")
    if kind in ("tickets_viewed", "visited"):
        return pick(names.NIGHTS, "night")
    if kind.startswith("lecture"):
        return pick(names.LECTURES, "lecture")
    if kind == "ticket_bought":
        return [
            f'{{"amount": {a}, "night": "{names.NIGHTS[n]}"}}'
            for a, n in zip(
                dice.choice([8, 12, 16, 24, 36, 48], count),
                dice.integers(0, len(names.NIGHTS), count),
                strict=True,
            )
        ]
    if kind in ("shop_ordered", "donated"):
        return [f'{{"amount": {a:.2f}}}' for a in np.round(dice.gamma(2.0, 14.0, count) + 3, 2)]
    if kind.startswith("membership"):
        return [f'{{"tier": "{TIERS[t] if t >= 0 else TIERS[1]}"}}' for t in world.tier[who]]
    if kind == "enquiry_sent":
        return pick(
            ("School visit", "Lending a telescope", "Membership", "Group booking"), "subject"
        )
    if kind == "survey_answered":
        return [f'{{"score": {s}}}' for s in dice.integers(1, 11, count)]
    return [None] * count
