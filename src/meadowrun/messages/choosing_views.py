"""A message chosen by the value of a field: one message for each value, and one for everyone
else."""

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.channels import KINDS
from meadowrun.core.values import is_whole
from meadowrun.messages import actions, queries, readership
from meadowrun.messages.models import Message
from meadowrun.messages.values import known_refs
from meadowrun.people.asked import words
from meadowrun.people.queries import common_values
from meadowrun.shell.request import Answer, actor, db, done, needs, now

pages = flask.Blueprint("choosing", __name__)
MOST_VALUES = 20


@pages.get("/messages/<int:ident>/chosen-by")
def show(ident: int) -> Answer:
    return _page(queries.message(db(), ident), None)


def _page(message: Message, problem: MeadowrunError | None) -> str:
    """The form: which field, and, once it is known, which message for each of its values."""
    now_chosen = message.document.get("one_of") or {"field": "", "values": {}, "otherwise": 0}
    field = flask.request.values.get("field") or now_chosen["field"]
    values: list[str] = []
    if field in known_refs(words()):
        root, _, key = field.partition(".")
        spec = words().fields[field if root == "company" else key]
        values = list(
            dict.fromkeys(
                [
                    *spec.options,
                    *now_chosen["values"],
                    *([] if spec.options else common_values(db(), spec, MOST_VALUES)),
                ]
            )
        )
    others = [
        m
        for m in queries.messages(db())
        if KINDS[m.channel].mail and m.id != message.id and not m.document.get("one_of")
    ]
    readers = readership.readers_by_value(db(), field, words()) if values else {}
    return flask.render_template(
        "messages/chosen_by.html",
        message=message,
        field=field,
        values=values[:60],
        chosen=now_chosen,
        others=others,
        fields=sorted(known_refs(words()).items(), key=lambda i: i[1]),
        problem=problem,
        readers=readers,
        everyone_else=readership.everyone(db())
        - sum(readers.get(value, 0) for value in values[:60]),
    )


@pages.post("/messages/<int:ident>/chosen-by")
@needs("author")
def keep(ident: int) -> Answer:
    message, form = queries.message(db(), ident), flask.request.form
    try:
        if form.get("stop"):
            document = {k: v for k, v in message.document.items() if k != "one_of"}
        else:
            pairs = zip(form.getlist("value"), form.getlist("for"), strict=False)
            values = {
                value: int(number) for value, number in pairs if is_whole(number) and int(number)
            }
            if not values:
                raise Invalid("Choose a message for at least one value.", "for")
            document = message.document | {
                "one_of": {
                    "field": form.get("field", ""),
                    "values": values,
                    "otherwise": int(form.get("otherwise") or 0),
                },
                "subject": message.document["subject"]
                or f"chosen by {form.get('field', '').split('.')[-1]}",
            }
        actions.save(db(), actor(), now(), message, document, message.version, words(), apart=True)
    except MeadowrunError as problem:
        db().rollback()
        return _page(queries.message(db(), ident), problem), problem.status
    if form.get("stop"):
        return done("messages.edit", "It has lines of its own again.", ident=ident)
    return done(
        "choosing.show", "Saved: each person gets the message for their value.", ident=ident
    )
