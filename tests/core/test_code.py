"""HTML from elsewhere: what is kept, what is named as lost, how wide it is on a phone; MJML and
emails from elsewhere."""

import email.message

import pytest

from meadowrun.core.content import document as doc
from meadowrun.core.content import exchange, mailfile
from meadowrun.core.content.code import clean_code, lost, width_on_phone
from meadowrun.core.content.compiled import compile_document
from meadowrun.core.content.markup import elements

PAGE = """<!doctype html><html><head><title>Old</title><meta charset="latin1">
<style>@media (max-width:480px){.col{width:100%!important}}</style><!--[if mso]><style>.x{color:red}</style><![endif]--></head>
<body bgcolor="#eeeeee" style="margin:0" class="b" onload="x()"><map name="m"><area href="https://a.example/q" shape="rect" coords="0,0,9,9"></map>
<table width="600"><tr><td colspan="2" rowspan="3" class="col"><img src="https://a.example/x.png" alt="x" usemap="#m"></td></tr></table>
<!--[if mso]><v:rect fill="true"></v:rect><![endif]--><form action="/x"><input name="q"></form><script>x()</script></body></html>"""


def made(code):
    return compile_document(
        doc.take({"subject": "New", "preheader": "Look", "lines": [], "code": code}),
        "http://m.example",
    ).html


def test_a_whole_page_keeps_its_head_its_body_and_its_tables():
    page = made(PAGE)
    head, body = page.split("</head>", 1)
    assert "max-width:480px" in head and "<style>" not in body.replace("<!--", "\0").split("\0")[0]
    assert (
        'name="viewport"' in head
        and 'xmlns:v="urn:schemas-microsoft-com:vml"' in head
        and "<title>New</title>" in head
    )
    tags = {e.tag: e for e in elements(page)}
    assert (
        tags["body"].attributes.items() >= {"bgcolor": "#eeeeee", "class": "b"}.items()
        and "onload" not in page
    )
    assert tags["td"].attributes.items() >= {"colspan": "2", "rowspan": "3"}.items()
    assert [e.tag for e in elements(page) if e.attributes.get("usemap") == "#m"] == ["img"]
    assert tags["area"].attributes["shape"] == "rect" and "v:rect" in page and "script" not in page


def test_cleaned_twice_is_cleaned_once():
    assert clean_code(clean_code(PAGE)) == clean_code(PAGE)


def test_what_is_lost_is_named():
    said = lost(PAGE, clean_code(PAGE))
    assert set(said) == {"<form>", "<input>", "<script>", "onload on <body>"}
    assert lost(
        "<p onclick='a'>x</p><p onclick='b'>y</p>",
        clean_code("<p onclick='a'>x</p><p onclick='b'>y</p>"),
    ) == ["onclick on <p> (2 times)"]
    assert lost("<p>x</p>", clean_code("<p>x</p>")) == []


@pytest.mark.parametrize(
    ("code", "wide"),
    [
        ("<table width='980'><tr><td>x</td></tr></table>", 980),
        ("<table width='600'><tr><td>x</td></tr></table>", 600),
        ("<div style='width:980px'>x</div>", 980),
        ("<div style='width:100%;max-width:600px'>x</div>", 375),
        ("<table width='600' style='width:100%;max-width:600px'><tr><td>x</td></tr></table>", 375),
        (
            (
                "<style>@media (max-width:600px){.w{width:100%!important}}</style><table class='w' "
                "width='600'><tr><td>x</td></tr></table>"
            ),
            375,
        ),
        (
            "<style>@media only screen and (max-width: 480px){table[class=w], .w "
            "td{width:auto}}</style>"
            "<table class='w' width='700'><tr><td width='700'>x</td></tr></table>",
            375,
        ),
        (
            "<style>.w{width:100%}</style><table class='v' width='700'><tr><td>x</td></tr></table>",
            700,
        ),
        (
            (
                "<style>@media (min-width:600px){.w{width:100%}}</style><table class='w' "
                "width='700'><tr><td>x</td></tr></table>"
            ),
            700,
        ),
        (
            (
                "<style>@media (max-width:320px){.w{width:100%}}</style><table class='w' "
                "width='700'><tr><td>x</td></tr></table>"
            ),
            700,
        ),
        ("<div style='min-width:500px'>x</div>", 500),
        ("<img src='https://a.example/x.png' width='800' style='max-width:100%'>", 375),
        ("<table width='100%'><tr><td>x</td></tr></table>", 375),
        ("<div style='display:none;width:900px'>x</div>", 375),
    ],
)
def test_how_wide_a_page_is_on_a_phone(code, wide):
    assert width_on_phone(made(code)) == wide


MJML = """<mjml><mj-head><mj-font name="Raleway" href="https://a.example/f.css" />
<mj-attributes><mj-class name="big" align="center" color="#aa0000" /><mj-text color="#222222" /></mj-attributes></mj-head>
<mj-body><mj-hero background-url="https://a.example/h.png"><mj-text>Hero</mj-text></mj-hero>
<mj-wrapper border="1px solid #000"><mj-section background-color="#ffffff">
<mj-column><mj-text mj-class="big">Big</mj-text></mj-column></mj-section></mj-wrapper>
<mj-section background-color="#112233" full-width="full-width">
<mj-group><mj-column><mj-divider border-color="#00ff00" /></mj-column></mj-group></mj-section></mj-body></mjml>"""


def test_mjml_from_elsewhere_says_what_it_loses_and_keeps_what_it_can():
    brought = exchange.from_mjml(MJML)
    text = next(line for line in brought.document["lines"] if "Big" in str(line.get("html")))
    assert (text["align"], text["colour"]) == ("center", "#aa0000"), "classes are worked in"
    assert [line["colour"] for line in brought.document["lines"] if line["type"] == "divider"] == [
        "#00ff00"
    ]
    assert brought.document["settings"]["sheet"] == doc.SETTINGS["sheet"], (
        "the ground of one section is not the whole message's"
    )
    said = "; ".join(brought.lost)
    for lost_one in (
        "<mj-font> “Raleway”",
        "background-url of <mj-hero>",
        "border of <mj-wrapper>",
        "background-color of <mj-section>",
        "full-width of <mj-section>",
        "<mj-group>",
    ):
        assert lost_one in said


@pytest.mark.parametrize("charset", ["utf-8", "iso-8859-1", "windows-1252"])
def test_an_email_kept_as_a_file_is_read_as_an_email(charset):
    mail = email.message.EmailMessage()
    mail["From"], mail["Subject"] = "a@a.example", "Café am Abend"
    mail.set_content("Schöne Grüße", charset=charset)
    mail.add_alternative(
        "<html><body><p>Schöne <b>Grüße</b></p><img src='cid:1'></body></html>",
        subtype="html",
        charset=charset,
    )
    mail.add_attachment(b"x", maintype="application", subtype="pdf", filename="Programme.pdf")
    content = mail.as_bytes()
    assert (
        mailfile.is_email(content)
        and not mailfile.is_email(PAGE.encode())
        and not mailfile.is_email(b"<mjml>")
    )
    read = mailfile.read(content)
    assert (read.subject, read.text.strip()) == (
        "Café am Abend",
        "Schöne Grüße",
    ) and "<b>Grüße</b>" in read.html
    assert read.lost == [
        "the attached file “Programme.pdf”",
        "a picture inside the email; upload it and put its address in",
    ]
