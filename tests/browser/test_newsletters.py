"""Six newsletters and many random documents, as MJML, as HTML in a real browser at two widths, as
text, and as MIME."""

import email
import email.policy
import random
import re

import pytest

from meadowrun.base.browser import chromium
from meadowrun.core.content import begin, exchange
from meadowrun.core.content.compiled import compile_document
from meadowrun.core.content.document import SETTINGS, empty, take, texts
from meadowrun.core.content.fillins import TOKENS
from meadowrun.core.content.lines import LINE_TYPES, new_line
from meadowrun.core.content.rendering import Renderer
from meadowrun.gateways.email import Letter, mime

PUBLIC = "http://127.0.0.1:9"
#: A picture that needs no network, wide enough to burst a phone that does not shrink it.
PICTURE = "https://pictures.example/wide.png"
WORDS = (
    "sky",
    "Farrow",
    "telescopes",
    "a-very-long-hyphenated-word-about-stars",
    "night",
    "{{ contact.n }}",
    "dome",
    "cocoa",
    "Überfahrt",
    "星",
)
VALUES = {
    "contact": {"n": "Ann & <Co>", "first_name": "Ann", "town": "Farrow"},
    "company": {},
    "fact": {"venue": "the dome"},
    "token": dict.fromkeys(TOKENS, "TOK"),
    "sender": {"name": "Ida"},
    "feed": {"list": [{"t": "one"}, {"t": "two"}]},
}


def phrase(dice, most=14):
    return " ".join(dice.choice(WORDS) for _ in range(dice.randint(1, most)))


def line(dice, depth=0):
    """A random line of any kind that can stand here, filled."""
    kinds = [
        k
        for k in LINE_TYPES
        if k not in ("kept", "footer")
        and not (k == "only" and depth > 1)
        and not (k == "columns" and depth)
    ]
    kind = dice.choice(kinds)
    text = phrase(dice)

    def held():
        return [line(dice, depth + 1) for _ in range(dice.randint(0, 2))]

    more = {
        "heading": {"text": text},
        "quote": {"html": f"<p>{text}</p>", "by": "Ida"},
        "text": {"html": f"<p>{text}</p><ul><li><b>{text}</b></li></ul>"},
        "picture": {
            "src": PICTURE,
            "alt": text,
            "width": dice.choice((30, 100)),
            "link": "https://x.example/p",
        },
        "button": {"label": phrase(dice, 4), "href": "https://x.example/{{ contact.n }}"},
        "code": {"code": f"<table><tr><td>{text}</td></tr></table>"},
        "icons": {"icons": [{"icon": "web", "href": "https://x.example"}]},
        "feed": {"feed": "list", "html": "<p>{{ item.t }} " + text + "</p>"},
        "columns": {"split": dice.choice(([50, 50], [33, 33, 34], [70, 30], [25, 25, 25, 25]))},
        "only": {},
    }.get(kind, {})
    made = new_line(kind, **more)
    if kind == "columns":
        made["columns"] = [held() for _ in made["split"]]
    if kind == "only":
        made["cases"] = [
            {
                "id": f"c{dice.randrange(10**9)}",
                "name": "",
                "lines": [],
                "group": "",
                "content": held(),
            }
            for _ in range(2)
        ]
        made["otherwise"] = held()
    return made


def documents():
    for layout in list(begin.LAYOUTS)[:6]:
        made = begin.document(layout, "Farrow Hill Observatory", "Tarn Road", {})
        for one in made["lines"]:
            for inner in [one, *[x for c in one.get("columns", []) for x in c]]:
                if inner["type"] == "picture":
                    inner["src"] = PICTURE
                if inner["type"] == "button":
                    inner["href"] = "https://x.example/go"
        yield layout, take(made | {"subject": f"{layout} {{{{ contact.n }}}}"})
    for number in range(200):
        dice = random.Random(number)
        yield (
            f"random {number}",
            take(
                empty({"width": dice.choice((480, 600, 700))})
                | {
                    "subject": phrase(dice),
                    "preheader": phrase(dice),
                    "lines": [*(line(dice) for _ in range(dice.randint(1, 7))), new_line("footer")],
                }
            ),
        )


@pytest.fixture(scope="module")
def narrow():
    made = chromium(600, 800)
    yield made
    made.quit()


def mails():
    for name, document in documents():
        compiled = compile_document(document, PUBLIC)
        answers = {
            ref.removeprefix("when."): number % 2 == 0
            for number, ref in enumerate(r for r in compiled.refs if r.startswith("when."))
        }
        yield name, document, compiled, Renderer(compiled).render(VALUES | {"when": answers})


def test_every_one_is_whole(narrow):
    wide = {600: [], 360: []}
    for name, document, compiled, mail in mails():
        assert (
            "MRPART" not in mail.html
            and "MRCODE" not in mail.html
            and "{{" not in mail.html
            and "{%" not in mail.html
        ), name
        wanted = sum(
            text.count("{{ contact.n }}")
            for _, slot, text in texts(document)
            if slot not in ("href", "link")
        )
        # The subject stands there twice: as the title, and for screen readers.
        assert compiled.html.count("{{ contact.n }}") == wanted + document["subject"].count(
            "{{ contact.n }}"
        ), name
        # Whatever people can read in the HTML stands in the plain text, too.
        seen = re.findall(
            r"[^\W\d_]{4,}",
            re.sub(
                r"<!--.*?-->|<style.*?</style>|<title>.*?</title>|<[^>]*>",
                " ",
                mail.html,
                flags=re.DOTALL,
            ),
        )
        missing = {
            w
            for w in seen
            if w not in mail.text
            and w not in document["preheader"]
            and w not in ("choose", "what", "Unsubscribe")
        }
        assert not missing, (name, missing)
        letter = Letter(
            "k",
            1,
            "Ida",
            "a@b.example",
            "",
            "to@b.example",
            "r@b.example",
            mail.subject,
            mail.html,
            mail.text,
            0.0,
            "<k@b.example>",
            "http://out",
        )
        parsed = email.message_from_bytes(mime(letter), policy=email.policy.default)
        assert parsed.get_body(("html",)).get_content().replace("\r\n", "\n") == mail.html.replace(
            "\r\n", "\n"
        ), name
        assert parsed.get_body(("plain",)).get_content().replace("\r\n", "\n") == mail.text, name
        # As MJML it can be read in again, with every word.
        again = exchange.from_mjml(exchange.to_mjml(document, None, PUBLIC)).document
        assert set(again["settings"]) == set(SETTINGS) and (
            again["lines"] or not document["lines"]
        ), name
    names = [(name, mail.html) for name, _, _, mail in mails()]
    for width in wide:
        narrow.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": width < 400},
        )
        narrow.get("about:blank")
        for name, html in names:
            scroll = narrow.execute_script(
                "document.open(); document.write(arguments[0]); document.close(); "
                "return document.documentElement.scrollWidth",
                html,
            )
            if scroll > max(width, 600 if width == 600 else 0) + (
                110 if width == 600 and "700" in html else 0
            ):
                wide[width].append((name, scroll))
    assert wide == {600: [], 360: []}
