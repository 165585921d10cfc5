"""An email that many tests write in."""

LETTER = {
    "subject": "Stars for {{ contact.first_name | default('you', true) }}",
    "preheader": "Come",
    "lines": [
        {"id": "h", "type": "heading", "text": "Good evening"},
        {
            "id": "t",
            "type": "text",
            "html": (
                "<p>Dear {{ contact.first_name | default('friend', true) }} of {{ "
                "contact.town }}</p>"
            ),
        },
        {
            "id": "b",
            "type": "button",
            "label": "Book",
            "href": "https://farrowhill.example/book?who={{ contact.email }}",
        },
        {"id": "f", "type": "footer", "html": "<p>Farrow Hill</p>"},
    ],
}


def changed(**lines):
    """The letter with other words in some of its lines."""
    return {**LETTER, "lines": [{**line, **lines.get(line["id"], {})} for line in LETTER["lines"]]}
