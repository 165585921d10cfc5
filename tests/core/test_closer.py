"""Planted faults, each of which a closer look must name; and good messages, of which it must say
nothing."""

import datetime as dt

import pytest

from meadowrun.core.content import document as doc
from meadowrun.core.content.checks import checks
from meadowrun.core.content.findings import MUST, SHOULD, About

ADDRESS = "Farrow Hill Observatory, Tarn Road, Farrow"
ABOUT = About(
    known=["contact.first_name"],
    today=dt.date(2026, 11, 28),
    postal_address=ADDRESS,
    stored=["/f/dome"],
    facts=["venue"],
)
LONG = (
    "<p>Dear {{ contact.first_name | default('friend', true) }}, on Friday 11 December 2026 the "
    "dome opens at eight. Dress warmly, bring somebody "
    "along, and ask at the desk for a cup of tea. Members come in without paying, as ever.</p>"
)


def message(
    html=LONG,
    subject="Another year of stars",
    preheader="The dome opens on Friday",
    lines=(),
    **more,
):
    return doc.take(
        {
            "subject": subject,
            "preheader": preheader,
            "lines": [
                {"id": "a", "type": "text", "html": html},
                *lines,
                {"id": "f", "type": "footer", "html": f"<p>{ADDRESS}</p>"},
            ],
            **more,
        }
    )


def code(
    inside=LONG,
    foot=(
        "<p>Farrow Hill Observatory, Tarn Road, Farrow. <a href='{{ unsubscribe "
        "}}'>Unsubscribe</a></p>"
    ),
    body="<body>",
    **more,
):
    return doc.take(
        {
            "subject": "Another year of stars",
            "preheader": "The dome opens on Friday",
            "lines": [],
            "code": f"<html>{body}{inside}{foot}</body></html>",
            **more,
        }
    )


def said(document):
    return [c.text for c in checks(document, ABOUT) if c.level in (MUST, SHOULD)]


def button(**more):
    return {
        "id": "b",
        "type": "button",
        "label": "Book",
        "href": "https://farrowhill.example/book",
        **more,
    }


@pytest.mark.parametrize(
    ("document", "finding"),
    [
        (message(LONG + '<p><span style="color:#dddddd">pale</span></p>'), "hardly be read"),
        (code(LONG + '<p style="color:#cccccc">pale</p>'), "hardly be read"),
        (code(LONG + '<p><font color="#eeeeee">pale</font></p>'), "hardly be read"),
        (
            code(
                LONG + '<table bgcolor="#222222"><tr><td style="color:#333333">x</td></tr></table>'
            ),
            "hardly be read",
        ),
        (
            message(LONG + '<p><a href="http://farrowhill.example/x">here it is</a></p>'),
            "not encrypted",
        ),
        (message(lines=[button(href="http://a.example/")]), "not encrypted"),
        (code(LONG + '<img src="http://a.example/x.png" alt="The dome">'), "not encrypted"),
        (
            message(
                lines=[
                    {
                        "id": "p",
                        "type": "picture",
                        "src": "http://a.example/x.png",
                        "alt": "The dome",
                    }
                ]
            ),
            "not encrypted",
        ),
        (message(lines=[button(href="https://farrowhill,example/book")]), "leads to"),
        (message(lines=[button(href="https://farrowhill..example/")]), "misspelt"),
        (message(lines=[button(href="https://https://farrowhill.example/")]), "leads to"),
        (message(lines=[button(href="https://farrow hill.example/")]), "leads to"),
        (message(lines=[button(href="farrowhill.example/book")]), "https://"),
        (
            code(LONG, foot="<p>Write to us. <a href='{{ unsubscribe }}'>Unsubscribe</a></p>"),
            "postal address",
        ),
        (
            doc.take(
                {
                    "subject": "Another year",
                    "preheader": "p",
                    "lines": [
                        {"id": "a", "type": "text", "html": LONG},
                        {"id": "f", "type": "footer", "html": "<p>Bye</p>"},
                    ],
                }
            ),
            "postal address",
        ),
        (code(LONG + '<p style="font-size:9px">tiny words here</p>'), "smaller than"),
        (code(LONG + '<font size="1">tiny</font>'), "smaller than"),
        (code(LONG + '<p style="font-size:0.5em">tiny words here</p>'), "smaller than"),
        (code(LONG + '<img alt="The dome">'), "no source"),
        (code(LONG + '<img src="" alt="The dome">'), "no source"),
        (code(LONG + '<img src="C:\\pictures\\x.png" alt="The dome">'), "source"),
        (
            message(lines=[{"id": "p", "type": "picture", "src": "/f/gone", "alt": "The dome"}]),
            "not in the store",
        ),
        (
            message(
                "<p>On 3 March 2026 the dome opened, and whoever was there will remember it for a "
                "long time to come.</p>"
            ),
            "has passed",
        ),
        (
            message(
                "<p>Come on November 5th, 2026 at eight to see the dome and whatever the clouds "
                "will leave us of the sky.</p>"
            ),
            "has passed",
        ),
        (
            message(
                "<p>Come on Monday 11 December 2026 at eight to see the dome and whatever the "
                "clouds will leave of the sky.</p>"
            ),
            "is a Friday",
        ),
        (
            message(
                "<p>Come on 31 November 2026 at eight to see the dome and whatever the clouds "
                "will leave us of the sky.</p>"
            ),
            "not a date that exists",
        ),
        (
            message(LONG + '<p><a href="https://evil.example/x">www.farrowhill.example</a></p>'),
            "leads to evil.example",
        ),
        (message(subject="Re: your booking"), "pretends"),
        (message(subject="FWD: for you"), "pretends"),
        (message(subject="LAST CHANCE FOR TICKETS"), "capitals"),
        (message(subject="Come now!!"), "marks"),
        (
            message(
                "<p>Look</p>",
                lines=[{"id": "p", "type": "picture", "src": "/f/dome", "alt": "All about Friday"}],
            ),
            "Nearly everything is a picture",
        ),
        (message(preheader="Another year of stars"), "repeats the subject"),
        (message(LONG + "<p>Lorem ipsum dolor</p>"), "left over"),
        (message(LONG + "<p>Dear [first name]</p>"), "left over"),
        (message(subject="TODO subject line"), "left over"),
        (message(LONG + '<p><a href="https://a.example/x"></a></p>'), "no words"),
        (code(LONG + '<a href="#">More about it</a>'), "leads nowhere"),
        (
            code(LONG + '<a href="https://www.farrow hill.example/x">More about it</a>'),
            "no address that can be followed",
        ),
        (
            code(LONG + '<a href="http://localhost:3000/x">More about it</a>'),
            "inside your own network",
        ),
        (
            code(LONG + '<a href="https://wiki.hill.internal/x">More about it</a>'),
            "inside your own network",
        ),
        (
            code(LONG + '<a href="mailto:desk@farrowhill">More about it</a>'),
            "not a complete email address",
        ),
        (
            code(LONG, foot="<p>Farrow Hill Observatory, Tarn Road, Farrow. {{ unsubscribe }}</p>"),
            "not in a link",
        ),
        (
            code(
                LONG,
                foot=(
                    "<p style='display:none'>Farrow Hill Observatory, Tarn Road, Farrow <a "
                    "href='{{ unsubscribe }}'>x</a></p>"
                ),
            ),
            "cannot be seen",
        ),
        (code(LONG + '<p style="color:#ffffff">free free free winner</p>'), "cannot be seen"),
        (code(LONG + '<p style="font-size:0">winner</p>'), "cannot be seen"),
    ],
)
def test_planted_faults_are_found(document, finding):
    assert any(finding in text for text in said(document)), said(document)


GOOD = [
    message(),
    message(lines=[button()]),
    code(),
    message(subject="Are the Leonids worth it?"),
    message(LONG + '<p><a href="https://www.farrowhill.example/visit">farrowhill.example</a></p>'),
    message(
        LONG + '<p><span style="color:#2e5e45">green</span></p>',
        lines=[{"id": "p", "type": "picture", "src": "/f/dome", "alt": "The dome at night"}],
    ),
    code(
        LONG
        + '<table bgcolor="#1f2b25"><tr><td style="color:#ffffff">white on dark</td></tr></table>'
    ),
    code(
        LONG
        + '<a href="https://a.example/x"><img src="https://a.example/x.png" alt="The dome"></a>'
    ),
    message(lines=[button(href="https://bücher.example/ö?x=1")]),
    message(
        lines=[
            button(href="https://farrowhill.example:8443/x"),
            button(href="mailto:a@a.example?subject=A%20seat", id="c"),
        ]
    ),
    message(
        LONG
        + (
            "<p>Members since 1987 met 12/24 hours a day; 3.5.7 is a version, and that that is "
            "is.</p>"
        )
    ),
    doc.take(
        {
            "subject": "A short note",
            "preheader": "p",
            "lines": [],
            "text_only": True,
            "plain": f"Come on 11 December 2026: https://farrowhill.example\n{ADDRESS}",
        }
    ),
]


@pytest.mark.parametrize("document", GOOD)
def test_good_messages_raise_no_alarm(document):
    assert said(document) == []
