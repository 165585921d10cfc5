"""How likely a mail is to be taken for spam: rules of our own, each with its reason and its remedy.

Points add up as filters add theirs; five is where most draw the line. Business mailboxes and of
private people are judged apart, because their filters mind different things.
"""

import dataclasses
import re
from collections.abc import Callable, Sequence
from urllib.parse import urlsplit

from meadowrun.core.content.plain import html_text

LIMIT = 5.0


@dataclasses.dataclass(frozen=True, slots=True)
class Mail:
    """One rendered mail and its head."""

    subject: str
    html: str
    text: str
    from_name: str
    from_address: str
    reply_to: str = ""
    #: the address that unsubscribes, as it stands in the mail; empty: not known
    unsubscribe: str = ""


@dataclasses.dataclass(frozen=True, slots=True)
class Finding:
    """A rule that speaks: points for mailboxes of businesses and of private people."""

    rule: str
    business: float
    private: float
    reason: str
    remedy: str


Rule = Callable[[Mail, str], str | None]

_PHRASES = (
    "act now",
    "limited time",
    "100% free",
    "risk free",
    "risk-free",
    "no obligation",
    "click here",
    "buy now",
    "order now",
    "winner",
    "you have been selected",
    "guaranteed",
    "cash bonus",
    "double your",
    "earn money",
    "extra income",
    "dear friend",
    "this is not spam",
    "urgent",
    "final notice",
    "free gift",
    "no cost",
    "lowest price",
    "once in a lifetime",
)


def _capitals(mail: Mail, words: str) -> str | None:
    letters = [c for c in mail.subject if c.isalpha()]
    share = sum(c.isupper() for c in letters) / len(letters) if letters else 0
    return (
        f"{share:.0%} of the letters of the subject are capitals"
        if len(letters) > 6 and share > 0.6
        else None
    )


def _marks(mail: Mail, words: str) -> str | None:
    count = mail.subject.count("!") + mail.subject.count("?!")
    return f"{count} exclamation marks in the subject" if count >= 2 else None


def _shouting(mail: Mail, words: str) -> str | None:
    found = re.findall(r"\b[A-Z]{4,}\b", words)
    return f"{len(found)} words in capitals: {', '.join(found[:4])}" if len(found) > 5 else None


def _phrases(mail: Mail, words: str) -> str | None:
    low = f"{mail.subject} {words}".lower()
    found = [p for p in _PHRASES if re.search(rf"\b{re.escape(p)}\b", low)]
    return f"it says {', '.join(f'“{p}”' for p in found[:5])}" if found else None


def _money(mail: Mail, words: str) -> str | None:
    return "an amount of money in the subject" if re.search(r"[$£€]\s?\d", mail.subject) else None


def _pictures(mail: Mail, words: str) -> str | None:
    pictures = len(re.findall(r"<img\b(?![^>]*width=\"1\")", mail.html))
    return (
        f"{pictures} pictures and only {len(words.split())} words"
        if pictures and len(words.split()) < 25 * pictures
        else None
    )


def _no_text(mail: Mail, words: str) -> str | None:
    return (
        "the plain-text part is missing or nearly empty"
        if mail.html and len(mail.text.split()) < 5
        else None
    )


def _far(mail: Mail, words: str) -> str | None:
    if not mail.html:
        return None
    one, other = (
        set(re.findall(r"\w{4,}", words.lower())),
        set(re.findall(r"\w{4,}", mail.text.lower())),
    )
    alike = len(one & other) / len(one) if one else 1
    return (
        f"the two parts share {alike:.0%} of their words" if len(one) > 20 and alike < 0.4 else None
    )


def _bare_number(mail: Mail, words: str) -> str | None:
    return (
        "a link leads to a bare number"
        if re.search(r'href="https?://\d+\.\d+\.\d+\.\d+(?!:\d+/[cup]/)', mail.html)
        else None
    )


def _disguised(mail: Mail, words: str) -> str | None:
    for href, label in re.findall(r'<a\s[^>]*href="([^"]+)"[^>]*>(.*?)</a>', mail.html, re.DOTALL):
        named = re.search(
            r"\b((?:[a-z0-9-]+\.)+[a-z]{2,})\b", re.sub(r"<[^>]*>", "", label).lower()
        )
        host = urlsplit(href).hostname or ""
        if (
            named
            and host
            and not host.endswith(named.group(1).removeprefix("www."))
            and "@" not in label
        ):
            return f"a link says {named.group(1)} and leads to {host}"
    return None


def _many_links(mail: Mail, words: str) -> str | None:
    links = len(re.findall(r"<a\s", mail.html))
    return (
        f"{links} links to {len(words.split())} words"
        if links > 12 and links * 12 > len(words.split())
        else None
    )


def _no_way_out(mail: Mail, words: str) -> str | None:
    whole = f"{mail.html} {mail.text}"
    linked = bool(mail.unsubscribe) and mail.unsubscribe in whole
    return (
        None
        if linked or re.search(r"unsubscribe|opt out", whole.lower())
        else "nothing says how to unsubscribe"
    )


def _free_sender(mail: Mail, words: str) -> str | None:
    return "the sender’s name is an address" if "@" in mail.from_name else None


def _no_reply(mail: Mail, words: str) -> str | None:
    return (
        "it comes from a no-reply address"
        if re.match(r"no-?reply", mail.from_address) and not mail.reply_to
        else None
    )


def _fake_reply(mail: Mail, words: str) -> str | None:
    return (
        "the subject pretends to be a reply"
        if re.match(r"(re|fwd?):", mail.subject, re.IGNORECASE)
        else None
    )


def _heavy(mail: Mail, words: str) -> str | None:
    return f"it weighs {len(mail.html) // 1000} kB" if len(mail.html) > 100_000 else None


def _hidden(mail: Mail, words: str) -> str | None:
    white = r"(#fff(?:fff)?|white)"
    return (
        "text in the colour of its background"
        if re.search(rf"(?<!-)color:\s*{white}[^>]*background(?:-color)?:\s*{white}", mail.html)
        else None
    )


def _short_links(mail: Mail, words: str) -> str | None:
    hosts = {urlsplit(h).hostname or "" for h in re.findall(r'href="(https?://[^"]+)"', mail.html)}
    short = [h for h in hosts if len(h) <= 7 and h.count(".") == 1]
    return f"links shortened elsewhere ({', '.join(short[:3])})" if short else None


def _empty_subject(mail: Mail, words: str) -> str | None:
    return "there is no subject" if not mail.subject.strip() else None


#: name, points in mailboxes of businesses, of private people, the rule, what to do
RULES: Sequence[tuple[str, float, float, Rule, str]] = (
    ("capitals", 1.2, 1.6, _capitals, "Write the subject as a sentence."),
    ("exclamation marks", 0.8, 1.2, _marks, "One mark at most, better none."),
    ("shouting", 0.8, 1.0, _shouting, "Make words bold instead of large."),
    ("overused phrases", 1.4, 1.8, _phrases, "Say it in your own words."),
    ("money in the subject", 0.6, 1.0, _money, "Name the amount in the email instead."),
    ("mostly pictures", 1.5, 1.0, _pictures, "Say in words what the pictures show."),
    ("no plain text", 1.3, 0.9, _no_text, "Let the plain text follow the lines."),
    ("parts that differ", 1.1, 0.7, _far, "Update the plain text to match the lines."),
    ("a bare number as address", 2.2, 2.5, _bare_number, "Link to a name, with https."),
    (
        "a disguised link",
        2.0,
        2.6,
        _disguised,
        "Let the words name where the link leads, or no place at all.",
    ),
    ("many links", 0.7, 0.9, _many_links, "Keep the links that matter."),
    ("no unsubscribe link", 2.5, 3.0, _no_way_out, "Add a footer with an unsubscribe link."),
    ("an address as name", 0.6, 0.8, _free_sender, "Name a person or the organisation."),
    ("a no-reply address", 0.5, 0.4, _no_reply, "Give a reply address that somebody reads."),
    ("looks like a reply", 1.4, 1.8, _fake_reply, "Take “Re:” out of the subject."),
    ("heavy", 0.9, 0.6, _heavy, "Shorten it, or move stories to the website."),
    ("hidden words", 2.4, 2.4, _hidden, "Show every word that is there."),
    (
        "links shortened elsewhere",
        1.2,
        1.6,
        _short_links,
        "Use the full address; it is tracked here.",
    ),
    ("no subject", 2.0, 2.0, _empty_subject, "Write one."),
)


def findings(mail: Mail) -> list[Finding]:
    """Every rule that speaks, the gravest first."""
    words = html_text(re.sub(r"\{[{%].*?[%}]\}", " ", mail.html)) if mail.html else mail.text
    found = [
        Finding(name, business, private, reason, remedy)
        for name, business, private, rule, remedy in RULES
        if (reason := rule(mail, words))
    ]
    return sorted(found, key=lambda f: -(f.business + f.private))


def score(found: Sequence[Finding]) -> tuple[float, float]:
    """Points in mailboxes of businesses and of private people; filters draw the line at LIMIT."""
    return round(sum(f.business for f in found), 1), round(sum(f.private for f in found), 1)
