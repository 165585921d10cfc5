"""Writing help that ships with the application: suggestions from purpose, tone, formality and
agreed words.

It never invents: a suggestion holds the author's own words, turns of phrase from the banks below,
the organisation's agreed words, and fill-ins. Numbers and dates stand in it only as the author
wrote them or as facts of the campaign.
"""

import dataclasses
import itertools
import random
import re
from collections.abc import Collection, Mapping, Sequence

TONES = ("warm", "plain", "lively", "urgent")
FORMALITIES = ("informal", "formal")
#: what a place holds → the most characters a suggestion for it may have
PLACES = {
    "subject": 60,
    "preheader": 100,
    "html": 600,
    "label": 28,
    "text": 60,
    "sms": 150,
    "title": 65,
    "body": 120,
}
_NAME = '{{ contact.first_name | default("friend", true) }}'


@dataclasses.dataclass(frozen=True, slots=True)
class Brief:
    """What the author asks for. `facts` are names of the campaign's facts, `agreed` and `avoided`
    the organisation's words."""

    purpose: str
    tone: str = "plain"
    formality: str = "informal"
    facts: Collection[str] = ()
    agreed: Collection[str] = ()
    avoided: Collection[str] = ()


#: what the author's first words say the message does → the aim
_AIMS: Sequence[tuple[str, str]] = (
    (r"invit\w*|ask\w* (?:them|people) to come|bring", "invite"),
    (r"remind\w*", "remind"),
    (r"thank\w*", "thank"),
    (r"renew\w*|keep (?:their|your)|extend", "renew"),
    (r"welcom\w*|greet", "welcome"),
    (r"sell|offer\w*|promot\w*|discount", "offer"),
    (r"ask|survey|find out|question", "ask"),
    (r"win back|return|come back|miss", "return"),
    (r"announc\w*|tell|inform|news|share|report|explain|say", "tell"),
)
#: aim → tone → openings; {t} is the topic, {T} with a capital, {n} the reader's name
_SUBJECTS: Mapping[str, Mapping[str, Sequence[str]]] = {
    "invite": {
        "warm": (
            "{n}, come to {t}",
            "We would love to see you at {t}",
            "We hope to see you at {t}",
            "{T}: come and join us",
        ),
        "plain": ("Come to {t}", "You are invited: {t}", "{T}: an invitation", "Join us for {t}"),
        "lively": (
            "{T}. See you there?",
            "Fancy {t}, {n}?",
            "Clear your evening for {t}",
            "{T} is calling",
        ),
        "urgent": (
            "Reserve your place at {t}",
            "{T}: choose your place now",
            "Do not leave {t} too late",
            "Now is the time for {t}",
        ),
    },
    "remind": {
        "warm": (
            "{n}, a friendly reminder of {t}",
            "Do not forget {t}",
            "{T}, in case you missed it",
            "Have you thought of {t}?",
        ),
        "plain": (
            "A reminder: {t}",
            "{T}, once more",
            "On your list: {t}",
            "Have you taken care of {t}?",
        ),
        "lively": (
            "Psst: {t}",
            "Worth a note: {t}",
            "{T}, remember?",
            "{n}, think of {t}",
        ),
        "urgent": (
            "Once more: {t}",
            "{T}: please do not wait",
            "Please take care of {t} today",
            "Do not miss {t}",
        ),
    },
    "thank": {
        "warm": (
            "Thank you, {n}",
            "{n}, thank you for {t}",
            "You made {t} what it was",
            "With thanks for {t}",
        ),
        "plain": ("Thank you for {t}", "Our thanks for {t}", "{T}: thank you", "What {t} meant"),
        "lively": (
            "{n}, you did that!",
            "See what {t} led to",
            "Hats off to you for {t}",
            "{T} was yours",
        ),
        "urgent": (
            "A quick thank-you for {t}",
            "Before the day ends: thank you for {t}",
            "Thank you, and what comes next",
            "First of all: thank you",
        ),
    },
    "renew": {
        "warm": (
            "{n}, stay with us",
            "We would like to keep you with us",
            "Shall we stay together?",
            "{n}, {t} is yours to keep",
        ),
        "plain": ("Renew {t}", "Time to renew {t}", "{T}: how to renew", "Keep {t} going"),
        "lively": (
            "One more round, {n}?",
            "{T}: the next chapter",
            "Shall we go on, {n}?",
            "Keep {t} bright",
        ),
        "urgent": (
            "{T} needs your answer",
            "Renew {t} before it lapses",
            "Do not let {t} lapse",
            "{n}, please renew {t}",
        ),
    },
    "welcome": {
        "warm": (
            "Welcome, {n}",
            "How good that you are here",
            "{n}, make yourself at home",
            "Welcome to {t}",
        ),
        "plain": (
            "Welcome to {t}",
            "You have joined {t}",
            "How to begin with {t}",
            "{T}: first steps",
        ),
        "lively": (
            "You are in, {n}!",
            "Hello and welcome to {t}",
            "{T} just got better: you came",
            "Let us begin, {n}",
        ),
        "urgent": (
            "Welcome: do this first",
            "Start with {t} today",
            "What to do first with {t}",
            "{n}, a first step",
        ),
    },
    "offer": {
        "warm": (
            "Something for you: {t}",
            "{n}, we thought of you",
            "A little something: {t}",
            "For you, {n}: {t}",
        ),
        "plain": ("For you: {t}", "About {t}", "{T} for you", "What {t} gives you"),
        "lively": (
            "Look what is here: {t}",
            "{T}? Yes, please",
            "Treat yourself to {t}",
            "{n}, meet {t}",
        ),
        "urgent": (
            "Now is a good time for {t}",
            "Now: {t}",
            "{T}: have a look today",
            "Get {t} today",
        ),
    },
    "ask": {
        "warm": (
            "{n}, what do you think?",
            "We would like your view on {t}",
            "Help us with {t}",
            "A question about {t}",
        ),
        "plain": (
            "A question about {t}",
            "Tell us about {t}",
            "Your view on {t}",
            "A question: {t}",
        ),
        "lively": (
            "Yes or no, {n}?",
            "Settle it for us: {t}",
            "{T}: you decide",
            "Quick question, {n}",
        ),
        "urgent": (
            "We need your answer on {t}",
            "Please answer today: {t}",
            "{T}: your answer is missing",
            "Please answer: {t}",
        ),
    },
    "return": {
        "warm": (
            "{n}, we have missed you",
            "It has been a while, {n}",
            "Come back to {t}",
            "The door is open, {n}",
        ),
        "plain": (
            "Come back to {t}",
            "{T} since you were here",
            "What is new at {t}",
            "Your way back to {t}",
        ),
        "lively": (
            "Remember {t}?",
            "Where have you been, {n}?",
            "{T} is not the same without you",
            "Back for more {t}?",
        ),
        "urgent": (
            "Before you go: {t}",
            "Shall we keep you on our list?",
            "Come back to {t} now",
            "{n}, stay or go?",
        ),
    },
    "tell": {
        "warm": (
            "{n}, news of {t}",
            "We wanted you to know about {t}",
            "{T}, told by us",
            "A word about {t}",
        ),
        "plain": ("{T}", "News: {t}", "About {t}", "What you should know about {t}"),
        "lively": (
            "Guess what: {t}",
            "{T}, hot off the press",
            "Have you heard of {t}?",
            "It is here: {t}",
        ),
        "urgent": (
            "Please read: {t}",
            "Important: {t}",
            "{T}: what you should do",
            "A change: {t}",
        ),
    },
}
_LABELS = {
    "invite": ("Reserve my place", "Choose a time", "Count me in", "See the places"),
    "remind": ("Take care of it now", "Do it now", "Take a look", "Take me there"),
    "thank": ("See the result", "Have a look", "Read on", "See more"),
    "renew": ("Renew now", "Stay with us", "Keep it going", "Choose how to renew"),
    "welcome": ("Begin here", "Take the first step", "Look around", "Show me"),
    "offer": ("Have a look", "Show me", "Choose yours", "Take it"),
    "ask": ("Answer now", "Give my view", "Say yes or no", "Tell us"),
    "return": ("Come back", "See what is new", "Keep me on the list", "See what is on"),
    "tell": ("Read on", "See the details", "Find out more", "Take me there"),
}
_REASONS = {
    "warm": (
        "We thought of you first.",
        "It would be good to have you with us.",
        "This was made for people like you.",
    ),
    "plain": ("Here is what you need to know.", "Read on below.", "Here is the short version."),
    "lively": (
        "You will want to tell somebody about it.",
        "Bring a friend.",
        "It is as good as it sounds.",
    ),
    "urgent": (
        "Please do not leave it too late.",
        "Please take a look today.",
        "Now is the moment.",
    ),
}
_CLOSINGS = {
    "informal": ("See you soon.", "Write back if anything is unclear.", "We look forward to it."),
    "formal": (
        "Please reply to this message with any question.",
        "We are always happy to help.",
        "We look forward to hearing from you.",
    ),
}
_VERBS = {
    "invite": "invite you to",
    "remind": "remind you of",
    "thank": "thank you for",
    "renew": "ask you to renew",
    "welcome": "welcome you to",
    "offer": "offer you",
    "ask": "ask you about",
    "return": "see you again at",
    "tell": "tell you about",
}


#: what stands between the aim and the topic
_LINK = re.compile(
    r"^\s*(?:(?:them|people|everyone|readers|members|you)\s+)?"
    r"(?:about|to come to|to renew|to|for|of|that|on|with|at|again)?\s+"
)


def aim_and_topic(purpose: str) -> tuple[str, str]:
    """What a message is to do, and about what, from the author's words: “invite to the open night”
    → invite, the open night."""
    words = " ".join(purpose.split()).strip(" .!?")
    for pattern, aim in _AIMS:
        found = re.match(rf"(?:please )?(?:to )?(?:{pattern})\b", words, re.IGNORECASE)
        if found:
            rest = words[found.end() :]
            rest = _LINK.sub(" ", rest).strip()
            rest = re.sub(r"\btheir\b", "your", rest)
            return aim, rest or words
    return "tell", words


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _fill(pattern: str, topic: str, formal: bool) -> str:
    name = _NAME
    text = pattern.replace("{t}", topic).replace("{T}", _capital(topic)).replace("{n}", name)
    return re.sub(r"\bFancy\b", "Would you like", text) if formal else text


def suggestions(place: str, brief: Brief, seed: int = 0, most: int = 6) -> list[str]:
    """Up to `most` different suggestions for a place of PLACES; another seed gives others. Empty
    without a purpose."""
    if not brief.purpose.strip() or place not in PLACES:
        return []
    aim, topic = aim_and_topic(brief.purpose)
    tone = brief.tone if brief.tone in TONES else "plain"
    formal = brief.formality == "formal"
    chance = random.Random(f"{seed}:{brief.purpose}:{tone}:{brief.formality}:{place}")
    pool = _pool(place, aim, topic, tone, formal, brief, chance)
    longest = PLACES[place]
    shown = (text for text in pool if len(text.replace(_NAME, "Alexandra")) <= longest)
    kind = [
        t
        for t in shown
        if not any(re.search(rf"\b{re.escape(w)}\b", t, re.IGNORECASE) for w in brief.avoided)
    ]
    # Those with a word the team agreed on come first; the rest keeps its chance order.
    agreed = [w.casefold() for w in brief.agreed]
    ordered = sorted(dict.fromkeys(kind), key=lambda t: -sum(w in t.casefold() for w in agreed))
    return ordered[:most]


def _pool(
    place: str, aim: str, topic: str, tone: str, formal: bool, brief: Brief, chance: random.Random
) -> list[str]:
    others = [t for t in TONES if t != tone]
    openings = [_fill(p, topic, formal) for p in chance.sample(list(_SUBJECTS[aim][tone]), 4)]
    openings += [
        _fill(p, topic, formal)
        for other in others
        for p in chance.sample(list(_SUBJECTS[aim][other]), 1)
    ]
    facts = [f"{{{{ fact.{f} }}}}" for f in brief.facts]
    agreed = [w for w in brief.agreed if len(w) > 3]
    if place in ("subject", "text", "title"):
        with_fact = (
            [f"{o}: {f}" for o, f in zip(openings, itertools.cycle(facts), strict=False)]
            if facts
            else []
        )
        return [*openings[:4], *with_fact[:2], *openings[4:]]
    if place == "label":
        return chance.sample(list(_LABELS[aim]), 4)
    reasons = chance.sample(list(_REASONS[tone]), 3)
    closings = chance.sample(list(_CLOSINGS["formal" if formal else "informal"]), 3)
    leads = [
        f"{_capital(topic)}."
        if aim == "tell"
        else f"We {'should like' if formal else 'would like'} to {_VERBS[aim]} {topic}.",
        *(f"{o}." if o[-1] not in ".?!" else o for o in openings[:3]),
    ]
    where = [f" {_capital(f.replace('_', ' '))}: {{{{ fact.{f} }}}}." for f in brief.facts]
    said = [f" {_capital(w)}: that is what we stand for." for w in agreed[:1]]
    if place == "html":
        return [
            f"{lead} {reason}{''.join(where[:2])}{said[0] if said and n == 0 else ''} {close}"
            for n, (lead, reason, close) in enumerate(
                zip(leads, itertools.cycle(reasons), itertools.cycle(closings), strict=False)
            )
        ]
    return [
        f"{lead} {reason}" for lead, reason in zip(leads, itertools.cycle(reasons), strict=False)
    ] + reasons


def invented(text: str, brief: Brief) -> list[str]:
    """Numbers in a suggestion that come from nowhere: not from the purpose, nor the agreed words.
    For servers that suggest."""
    known = " ".join([brief.purpose, *brief.agreed])
    bare = re.sub(r"\{[{%].*?[%}]\}", " ", text)
    return [n for n in re.findall(r"\d+(?:[.,:]\d+)*\s?%?", bare) if n.strip() not in known]
