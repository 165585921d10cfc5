"""Starting points: layouts of our own to begin a message with, each for one thing a mail is for.

Their words say what belongs in a place; a picture's place stays empty until the author chooses one.
"""

from meadowrun.core.content.document import closing, empty, starting
from meadowrun.core.content.lines import Json, new_line

_DEAR = '<p>Dear {{ contact.first_name | default("friend", true) }},</p>'


def _heading(text: str, align: str = "left") -> Json:
    return new_line("heading", text=text, align=align)


def _text(*paragraphs: str, align: str = "left") -> Json:
    return new_line(
        "text",
        html="".join(p if p.startswith("<p>") else f"<p>{p}</p>" for p in paragraphs),
        align=align,
    )


def _picture(alt: str) -> Json:
    return new_line("picture", alt=alt)


def _button(label: str) -> Json:
    return new_line("button", label=label)


def _columns(split: list[int], *columns: list[Json], reverse: bool = False) -> Json:
    return new_line("columns", split=split, columns=list(columns), reverse=reverse)


def _story(n: int) -> list[Json]:
    return [
        _picture(f"What story {n} shows"),
        _heading(f"Story {n} in six words"),
        _text("Two sentences that make somebody want to read the rest."),
        _button("Read on"),
    ]


def _item(name: str) -> list[Json]:
    return [_picture(name), _text(f"<p><b>{name}</b></p>", "One line about it.", align="center")]


def _layouts() -> dict[str, tuple[str, list[Json]]]:
    return {
        "invitation": (
            "Invitation: one evening, one button",
            [
                _picture("The place, at the hour it is on"),
                _heading("What it is, and when", "center"),
                _text(_DEAR, "Why this one is worth an evening, in two sentences.", align="left"),
                _columns(
                    [50, 50],
                    [_text("<p><b>When</b></p>", "Day, date, hour")],
                    [_text("<p><b>Where</b></p>", "Place, and how to come")],
                ),
                _button("Reserve a place for me"),
            ],
        ),
        "newsletter": (
            "Newsletter: three stories",
            [
                _heading("The title of this issue"),
                _text(_DEAR, "What is in this issue, in one sentence."),
                *_story(1),
                new_line("divider"),
                _columns([50, 50], _story(2), _story(3)),
            ],
        ),
        "programme": (
            "Programme: what is on, date by date",
            [
                _heading("What is on this month"),
                _text(_DEAR, "One line on what not to miss."),
                *[
                    _columns(
                        [30, 70],
                        [_text(f"<p><b>Date {n}</b></p>", "hour")],
                        [_text(f"<p><b>Title {n}</b></p>", "One line about it.")],
                    )
                    for n in (1, 2, 3, 4)
                ],
                _button("See the whole programme"),
            ],
        ),
        "one-thing": (
            "One thing to do",
            [
                _heading("The one thing, as a sentence", "center"),
                _text("Why now, in one sentence.", align="center"),
                _button("Do it"),
                _text("What happens after they did.", align="center"),
            ],
        ),
        "welcome": (
            "Welcome: the first email",
            [
                _picture("The place they now belong to"),
                _heading("Welcome"),
                _text(
                    _DEAR,
                    "What they have just done, and what it gives them.",
                    "<p>Three things to begin with:</p>",
                    "<ul><li>the first</li><li>the second</li><li>the third</li></ul>",
                ),
                _button("Begin here"),
                _text("How to reach a person here."),
            ],
        ),
        "reminder": (
            "Reminder: something ends soon",
            [
                _heading("What ends, and on which day"),
                _text(_DEAR, "What they would lose, and how long it takes to keep it."),
                _button("Keep it"),
                _text("What to do when they would rather not."),
            ],
        ),
        "thanks": (
            "Thank you",
            [
                _heading("Thank you", "center"),
                _text(_DEAR, "What their help has done: one thing one could see or count."),
                new_line(
                    "quote",
                    html="<p>A sentence somebody said who gained from it.</p>",
                    by="Their name",
                ),
                _button("See more of it"),
            ],
        ),
        "shop": (
            "Shelf: four things in a row",
            [
                _heading("What belongs together here"),
                _text("Who would like these, and why now.", align="left"),
                _columns([25, 25, 25, 25], *[_item(f"Thing {n}") for n in (1, 2, 3, 4)]),
                _button("See all of them"),
            ],
        ),
        "beside": (
            "Picture and words, by turns",
            [
                _heading("A title"),
                _columns(
                    [40, 60],
                    [_picture("First picture")],
                    [_text("<p><b>First</b></p>", "A few lines.")],
                ),
                _columns(
                    [60, 40],
                    [_text("<p><b>Second</b></p>", "A few lines.")],
                    [_picture("Second picture")],
                    reverse=True,
                ),
                _columns(
                    [40, 60],
                    [_picture("Third picture")],
                    [_text("<p><b>Third</b></p>", "A few lines.")],
                ),
                _button("Read on"),
            ],
        ),
        "question": (
            "One question",
            [
                _heading("The question", "center"),
                _text("Why their answer matters, and how long it takes.", align="center"),
                _columns([33, 33, 34], [_button("Yes")], [_button("Partly")], [_button("No")]),
                _text("What is done with the answers.", align="center"),
            ],
        ),
        "news": (
            "What changed: short notes",
            [
                _heading("What is new"),
                _text(_DEAR),
                *[
                    line
                    for n in (1, 2, 3)
                    for line in (
                        _text(
                            f"<p><b>Change {n}</b></p>",
                            "What one can do now that one could not before.",
                        ),
                        new_line("divider"),
                    )
                ],
                _button("Try it"),
            ],
        ),
        "note": (
            "A note from a person, no pictures",
            [
                _text(
                    _DEAR,
                    "What you want to tell them, as you would say it at the door.",
                    "With kind regards,",
                    '<p>{{ sender.name | default("", true) }}</p>',
                )
            ],
        ),
    }


#: key → what it is called where a message is begun
LAYOUTS = {key: name for key, (name, _) in _layouts().items()}


def document(chosen: str, organisation: str, postal_address: str, looks: Json) -> Json:
    """The document a new message begins with: `chosen` is a layout's key, “text”, or empty."""
    if chosen == "text":
        return empty(looks) | {
            "text_only": True,
            "plain": 'Dear {{ contact.first_name | default("friend", true) }},\n\n\n\n'
            + f"{organisation}\n{postal_address}\n",
        }
    if chosen in LAYOUTS:
        return empty(looks) | {
            "lines": [*_layouts()[chosen][1], closing(organisation, postal_address)]
        }
    return starting(organisation, postal_address, looks)
