"""The API's endpoints that keep the house in order: fields and kinds of event changed, merged and
retired; duplicates merged, and merges undone."""

import flask

from meadowrun.api.door import TEXT, endpoint, thing
from meadowrun.base.audit import Actor
from meadowrun.base.errors import NotFound
from meadowrun.core.language import Wording
from meadowrun.people import dictionary, duplicates, queries
from meadowrun.people.kinds import event_kind
from meadowrun.people.models import Field
from meadowrun.shell.request import Answer, body, db, now

_TEXTS = {"type": "array", "items": TEXT}


def _field(field: Field) -> dict[str, object]:
    entry = dictionary.entry(db(), field)
    return {
        "id": field.id,
        "ref": dictionary.ref(field),
        "label": field.label,
        "type": field.type,
        "options": field.options,
        "meaning": field.meaning,
        "retired": field.retired,
        "filled": entry.filled,
        "of": entry.of,
        "commonest": [{"value": value, "count": count} for value, count in entry.common],
        "near": [f.label for f in entry.duplicates],
        "used_in": entry.used,
    }


@endpoint(
    "get",
    "/v1/fields/own",
    "The own fields: how full, commonest values, near duplicates, where used",
)
def own_fields(actor: Actor) -> Answer:
    return flask.jsonify(
        items=[_field(f) for owner in ("contact", "company") for f in queries.fields(db(), owner)]
    )


@endpoint(
    "put",
    "/v1/fields/<int:ident>",
    "Rename an own field, change its meaning or choices, retire it or bring it back; its key stays",
    takes=thing([], label=TEXT, meaning=TEXT, options=_TEXTS, retired={"type": "boolean"}),
)
def change_field(actor: Actor, ident: int) -> Answer:
    data, field = body(), dictionary.get(db(), ident)
    options = data.get("options", field.options)
    dictionary.change(
        db(),
        actor,
        field,
        str(data.get("label", field.label)),
        str(data.get("meaning", field.meaning)),
        options,
    )
    if "retired" in data:
        dictionary.retire(db(), actor, field, data["retired"])
    return flask.jsonify(_field(field))


@endpoint(
    "post",
    "/v1/fields/<int:ident>/merge",
    "Merge the field “gone” into this one, with its values and whatever names it, and delete it",
    takes=thing(
        ["gone"],
        gone={"type": "integer"},
        wins={
            "type": "string",
            "enum": ["kept", "gone"],
            "description": (
                "Whose value counts where both hold different ones; without it they are refused"
            ),
        },
    ),
)
def merge_fields(actor: Actor, ident: int) -> Answer:
    data, kept = body(), dictionary.get(db(), ident)
    return flask.jsonify(
        moved=dictionary.merge(
            db(), actor, dictionary.get(db(), data["gone"]), kept, data.get("wins", "")
        ),
        **_field(kept),
    )


@endpoint(
    "put",
    "/v1/events/kinds/<key>",
    (
        "Change the words of a kind of event, or whether a website may tell of it; retire it, or "
        "take it back"
    ),
    takes=thing(
        [],
        did=TEXT,
        do=TEXT,
        meaning=TEXT,
        retired={"type": "boolean"},
        by_website={"type": "boolean"},
    ),
)
def change_kind(actor: Actor, key: str) -> Answer:
    data, kind = body(), event_kind(db(), key)
    if kind is None:
        raise NotFound(Wording("No event is called “%(key)s”.", key=key))
    dictionary.change_kind(
        db(),
        actor,
        kind,
        str(data.get("did", kind.did)),
        str(data.get("do", kind.do)),
        str(data.get("meaning", kind.meaning)),
        data.get("retired", kind.retired),
        data.get("by_website", kind.by_website),
    )
    return flask.jsonify(
        event=kind.key,
        did=kind.did,
        do=kind.do,
        meaning=kind.meaning,
        retired=kind.retired,
        by_website=kind.by_website,
    )


@endpoint(
    "post",
    "/v1/events/kinds/<key>/merge",
    "Merge the kind of event “gone” into this one, with everything that uses it; its key "
    "stays an alias",
    takes=thing(["gone"], gone=TEXT),
)
def merge_kinds(actor: Actor, key: str) -> Answer:
    kept, gone = event_kind(db(), key), event_kind(db(), body()["gone"])
    if kept is None or gone is None:
        raise NotFound(
            Wording(
                "No event is called “%(value)s”.", value=key if kept is None else body()["gone"]
            )
        )
    return flask.jsonify(
        moved=dictionary.merge_kinds(db(), actor, gone, kept), event=kept.key, aka=kept.aka
    )


@endpoint(
    "get",
    "/v1/duplicates",
    ("Likely duplicates, the likeliest first, and the merges that can still be undone"),
)
def likely_duplicates(actor: Actor) -> Answer:
    pairs, as_of = duplicates.candidates(db(), now())
    return flask.jsonify(
        as_of=as_of.isoformat(),
        items=[{"contacts": [p.first.id, p.second.id], "why": list(p.why)} for p in pairs],
        merges=[
            {"id": m.id, "kept": m.kept_id, "gone": m.gone_id, "at": m.at.isoformat(), "by": m.by}
            for m in duplicates.recent(db(), now())
        ],
    )


@endpoint(
    "post",
    "/v1/merges/<int:ident>/undo",
    "Undo a merge of two contacts of the last 30 days",
)
def undo_merge(actor: Actor, ident: int) -> Answer:
    undone = duplicates.undo(db(), actor, now(), ident)
    return flask.jsonify(kept=undone.kept_id, gone=undone.gone_id)
