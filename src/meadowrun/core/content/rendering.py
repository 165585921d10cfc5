"""Filling in the templates of an edition for one person, and where its links lead for them."""

import dataclasses
import re
from collections.abc import Callable, Mapping
from typing import Any
from urllib.parse import quote

from meadowrun.core.content import fillins
from meadowrun.core.content import in_app as in_app_messages
from meadowrun.core.content.compiled import Compiled, Link
from meadowrun.core.content.document import Json
from meadowrun.core.content.filling import CannotRender, item_values, template
from meadowrun.core.content.push import mapped, texts_of

_GAPS = re.compile(r"\n{3,}")


class NoVersion(CannotRender):
    """A message chosen by a field's value has none for this person."""


@dataclasses.dataclass(frozen=True, slots=True)
class Rendered:
    """One person's mail. `html` is empty for a message of text only."""

    subject: str
    html: str
    text: str
    push: Json | None = None
    in_app: Json | None = None


class Renderer:
    """Fills in the templates of one edition, many times."""

    def __init__(self, compiled: Compiled):
        self.compiled = compiled
        self._members = {value: Renderer(member) for value, member in compiled.members.items()}
        if not compiled.field:
            self._subject = template(compiled.subject, escape=False)
            self._html = template(compiled.html, escape=True)
            self._text = template(compiled.text, escape=False)
            # A text message has no line end to spare.
            self._end = "\n" if compiled.html or not compiled.short else ""
            self._push = _mapper(mapped, texts_of, compiled.push) if compiled.push else None
            self._in_app = (
                _mapper(in_app_messages.mapped, in_app_messages.texts_of, compiled.in_app)
                if compiled.in_app
                else None
            )

    def render(self, values: Mapping[str, Any]) -> Rendered:
        """One person's mail. `values` holds contact, company, fact … (mappings) and token,
        the delivery's tokens by purpose.

        The subject is one line whatever a value holds, so that a value can never add a header.
        Raises CannotRender.
        """
        if self.compiled.field:
            value = fillins.reach(values, self.compiled.field)
            member = self._members.get("" if value is None else str(value)) or self._members.get("")
            if member is None:
                raise NoVersion(f"there is no version of the message for “{value or 'a blank'}”")
            return member.render(values)
        text = self._text(values)
        if "\n\n\n" in text:
            # A version that nobody reads here leaves its gap.
            text = _GAPS.sub("\n\n", text)
        return Rendered(
            " ".join(self._subject(values).split()),
            self._html(values),
            text.strip() + self._end,
            self._push(values) if self._push else None,
            self._in_app(values) if self._in_app else None,
        )

    def page(self, values: Mapping[str, Any]) -> Rendered | None:
        """What a tap on a push notification opens for one person; None where it opens no page of
        ours."""
        return self._members["page"].render(values) if "page" in self._members else None

    def preheader(self, values: Mapping[str, Any]) -> str:
        """The line beside the subject, for showing it on its own: in the mail it stands in the HTML
        already."""
        if self.compiled.field:
            return ""
        return " ".join(template(self.compiled.preheader, escape=False)(values).split())


def _mapper(
    change: Callable[..., Json], slots: Callable[..., Any], particulars: Json
) -> Callable[[Mapping[str, Any]], Json]:
    """Fills in the texts of a notification's or an in-app message's particulars."""
    templates = {slot: template(text, escape=False) for slot, text in slots(particulars)}
    return lambda values: change(particulars, lambda slot, _: templates[slot](values))


def link_address(link: Link, values: Mapping[str, Any]) -> str | None:
    """Where a link leads for one person; None when the list it stands in has no such item for
    them."""
    if link.each:
        items = fillins.reach(values, link.each)
        if not isinstance(items, list) or link.item >= len(items):
            return None
        values = {**values, **item_values(items[link.item])}
    return render_address(link.href, values) if "{" in link.href else link.href


def render_address(href: str, values: Mapping[str, Any]) -> str:
    """A link's address for one person. Values are percent-encoded, save one that is the address's
    beginning."""
    parts = []
    for place, part in enumerate(fillins.tree(href)):
        if isinstance(part, str):
            parts.append(part)
        else:
            if not isinstance(part, fillins.FillIn):
                return template(href, escape=False)(values)
            if place:
                parts.append(template(part.encoded().source(), escape=False)(values))
            else:
                parts.append(
                    quote(template(part.source(), escape=False)(values), safe=":/?#[]@!$&'()*+,;=%")
                )
    return "".join(parts)
