"""The API's endpoints about audiences: segments, counts, members by page, why somebody is in or
out, groupings."""

from typing import Any

import flask
from pyroaring import BitMap

from meadowrun.api.door import MOST, PAGED, TEXT, Json, endpoint, paged, thing, whole
from meadowrun.base.audit import Actor
from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience import english
from meadowrun.core.audience.nodes import Definition
from meadowrun.core.values import is_whole
from meadowrun.people import list_queries
from meadowrun.people.asked import moment, words
from meadowrun.people.models import PeopleList
from meadowrun.segments import actions, groupings, insight, page, queries
from meadowrun.segments import why as explaining
from meadowrun.segments.looking import look
from meadowrun.segments.models import Grouping, Segment, SegmentVersion
from meadowrun.segments.profile import profile
from meadowrun.shell.request import Answer, body, db, now, today

_DEFINITION: Json = {"$ref": "/api/segment.schema.json"}


def _parsed(data: Any) -> Definition:
    try:
        return d.parse(data, words())
    except d.DefinitionError as problem:
        raise Invalid(str(problem), problem.line) from None


def _segment(segment: Segment) -> Json:
    return {
        "id": segment.id,
        "name": segment.name,
        "version": segment.version,
        "definition": segment.definition,
        "size": segment.size,
        "sized_at": segment.sized_at.isoformat() if segment.sized_at else None,
        "changed_by": segment.changed_by,
        "changed_at": segment.changed_at.isoformat(),
    }


@endpoint(
    "get", "/v1/segments", "Every segment with its definition, and its size as last worked out"
)
def list_segments(actor: Actor) -> Answer:
    return flask.jsonify(items=[_segment(s) for s in queries.segments(db())])


@endpoint(
    "post",
    "/v1/segments",
    "Save a new segment",
    takes=thing(["name", "definition"], name=TEXT, definition=_DEFINITION),
    codes=(201,),
)
def add_segment(actor: Actor) -> Answer:
    data = body()
    return flask.jsonify(
        _segment(
            actions.save(
                db(), actor, now(), words(), str(data.get("name", "")), data.get("definition")
            )
        )
    ), 201


@endpoint("get", "/v1/segments/<int:ident>", "One segment, with its English")
def get_segment(actor: Actor, ident: int) -> Answer:
    segment = queries.segment(db(), ident)
    return flask.jsonify(
        _segment(segment)
        | {"says": english.read_aloud(actions.usable(segment, words()), words(), today())}
    )


@endpoint(
    "put",
    "/v1/segments/<int:ident>",
    "Save the next version of a segment; refused when somebody saved after “version”",
    takes=thing(["definition"], name=TEXT, definition=_DEFINITION, version={"type": "integer"}),
)
def change_segment(actor: Actor, ident: int) -> Answer:
    data, segment = body(), queries.segment(db(), ident)
    saved = actions.save(
        db(),
        actor,
        now(),
        words(),
        str(data.get("name") or segment.name),
        data.get("definition"),
        segment,
        data.get("version"),
    )
    return flask.jsonify(_segment(saved))


@endpoint("delete", "/v1/segments/<int:ident>", "Delete a segment that nothing uses")
def delete_segment(actor: Actor, ident: int) -> Answer:
    actions.delete(db(), actor, now(), queries.segment(db(), ident), page.users(ident))
    return flask.jsonify(deleted=ident)


@endpoint(
    "post",
    "/v1/segments/count",
    "How many a definition matches now, line by line, and how many of them each channel can reach",
    takes=thing(["definition"], definition=_DEFINITION),
)
def count_segment(actor: Actor) -> Answer:
    definition = _parsed(body().get("definition"))
    looked = look(moment(), definition)
    return flask.jsonify(
        size=looked.sieve.size,
        everyone=looked.sieve.everyone,
        reach=looked.reach,
        as_of=looked.as_of.isoformat(),
        says=english.read_aloud(definition, words(), today()),
        clashes=[list(pair) for pair in looked.sieve.clashes],
        steps=[
            {
                "id": s.id,
                "before": s.before,
                "kept": s.kept,
                "alone": s.alone,
                "without": looked.sieve.without.get(s.id),
            }
            for s in looked.sieve.steps
        ],
    )


@endpoint(
    "get", "/v1/segments/<int:ident>/members", "Who is in a segment now, page by page", query=PAGED
)
def segment_members(actor: Actor, ident: int) -> Answer:
    limit = whole("limit", 100, MOST)
    looked = look(moment(), actions.usable(queries.segment(db(), ident), words()))
    rows = queries.members(db(), looked.sieve.members, limit + 1, whole("after", 0))
    return paged(
        rows,
        limit,
        lambda c: {
            "id": c.id,
            "email": c.email,
            "first_name": c.first_name,
            "last_name": c.last_name,
        },
        lambda c: c.id,
        as_of=looked.as_of,
    )


@endpoint(
    "get",
    "/v1/segments/<int:ident>/why/<int:contact>",
    "Whether a contact is in a segment, and what each of its lines says",
)
def explain(actor: Actor, ident: int, contact: int) -> Answer:
    inside, answers = explaining.why(
        moment(), actions.usable(queries.segment(db(), ident), words()), contact
    )

    def shape(answer: explaining.Answer) -> Json:
        return {
            "id": answer.node.id,
            "says": english.text(english.sentence(answer.node, words(), today())),
            "here": answer.value,
            "holds": answer.holds,
            "inside": [shape(a) for a in answer.inside],
        }

    return flask.jsonify(as_of=now().isoformat(), inside=inside, lines=[shape(a) for a in answers])


@endpoint(
    "post",
    "/v1/segments/<int:ident>/freeze",
    "Make a list of the people who are in a segment now",
    codes=(201,),
)
def freeze_segment(actor: Actor, ident: int) -> Answer:
    made = actions.freeze(moment(), actor, queries.segment(db(), ident))
    size = list_queries.size(db(), made.id)
    return flask.jsonify(id=made.id, name=made.name, people=size), 201


@endpoint(
    "get",
    "/v1/segments/<int:ident>/versions",
    "Every version of a segment, the newest first, with its English",
)
def segment_versions(actor: Actor, ident: int) -> Answer:
    def said(version: SegmentVersion) -> str:
        try:
            return english.read_aloud(d.parse(version.definition, words()), words(), today())
        except d.DefinitionError as problem:
            return str(problem)

    queries.segment(db(), ident)
    return flask.jsonify(
        items=[
            {
                "version": v.version,
                "definition": v.definition,
                "english": said(v),
                "at": v.at.isoformat(),
                "by": v.by,
            }
            for v in queries.versions(db(), ident)
        ]
    )


@endpoint(
    "post",
    "/v1/segments/<int:ident>/restore",
    "Make an earlier version the newest again; those in between stay",
    takes=thing(["version"], version={"type": "integer"}),
)
def restore_segment(actor: Actor, ident: int) -> Answer:
    return flask.jsonify(
        _segment(
            actions.restore(
                db(), actor, now(), words(), queries.segment(db(), ident), body()["version"]
            )
        )
    )


def _members(ident: int) -> BitMap:
    return queries.member_set(moment(), actions.usable(queries.segment(db(), ident), words()))


@endpoint(
    "get",
    "/v1/segments/<int:ident>/profile",
    "What is more or less common in a segment than among everyone, most certain first",
)
def segment_profile(actor: Actor, ident: int) -> Answer:
    found, as_of = profile(moment(), _members(ident))
    return flask.jsonify(
        as_of=as_of.isoformat(),
        people=found.size,
        asked=found.asked,
        items=[
            {
                "about": t.about,
                "value": t.value,
                "people": t.here,
                "share": t.here_share,
                "everyone": t.everyone_share,
                "strength": t.strength,
            }
            for t in found.traits
        ],
    )


@endpoint(
    "get",
    "/v1/segments/compare",
    "What two or three segments share, and what each has alone",
    query={"of": {**TEXT, "description": "the segments’ numbers, separated by commas"}},
)
def compare_segments(actor: Actor) -> Answer:
    chosen = [part.strip() for part in flask.request.args.get("of", "").split(",")]
    if not 2 <= len(chosen) <= 3 or not all(is_whole(part) for part in chosen):
        raise Invalid(
            "“of” names two or three segments by their numbers, separated by commas.", "of"
        )
    numbers = [int(part) for part in chosen]
    regions = insight.regions([_members(number) for number in numbers])
    return flask.jsonify(
        as_of=now().isoformat(),
        items=[
            {
                "in": [n for n, i in zip(numbers, inside, strict=True) if i],
                "not_in": [n for n, i in zip(numbers, inside, strict=True) if not i],
                "people": size,
            }
            for inside, size in regions.items()
        ],
    )


@endpoint("post", "/v1/lists/<int:ident>/again", "Update a list that was made from a segment")
def list_again(actor: Actor, ident: int) -> Answer:
    segment, size = actions.freeze_again(moment(), actor, existing(db(), PeopleList, ident, "list"))
    return flask.jsonify(segment=segment.id, people=size)


@endpoint("get", "/v1/groupings", "Every grouping with its groups in order")
def list_groupings(actor: Actor) -> Answer:
    return flask.jsonify(items=[_grouping(p) for p in groupings.every(db())])


def _grouping(one: Grouping) -> Json:
    return {"id": one.id, "name": one.name, "version": one.version, "groups": one.groups}


@endpoint(
    "post",
    "/v1/groupings",
    "Create a grouping: everybody is in “everyone else”",
    takes=thing(["name"], name=TEXT),
    codes=(201,),
)
def add_grouping(actor: Actor) -> Answer:
    return flask.jsonify(
        _grouping(groupings.create(db(), actor, now(), str(body().get("name", ""))))
    ), 201


@endpoint(
    "put",
    "/v1/groupings/<int:ident>",
    "Change a grouping: set a group’s name and lines, move it up or down, remove it, rename the "
    "whole; refused when somebody saved after “version”",
    takes=thing(
        ["do"],
        do={"enum": ["set", "up", "down", "remove", "rename"]},
        key={**TEXT, "description": "of the group; a new one if left out"},
        name=TEXT,
        lines={
            "type": "array",
            "items": {"type": "object"},
            "description": "as in a segment’s definition",
        },
        version={"type": "integer"},
    ),
)
def change_grouping(actor: Actor, ident: int) -> Answer:
    changed = groupings.get(db(), ident)
    groupings.change(db(), actor, now(), words(), changed, body())
    return flask.jsonify(_grouping(changed))


@endpoint("delete", "/v1/groupings/<int:ident>", "Delete a grouping that nothing uses")
def delete_grouping(actor: Actor, ident: int) -> Answer:
    groupings.delete(db(), actor, now(), groupings.get(db(), ident))
    return flask.jsonify(deleted=ident)


@endpoint(
    "get", "/v1/groupings/<int:ident>/sizes", "How many are in each group now, everyone else last"
)
def grouping_sizes(actor: Actor, ident: int) -> Answer:
    try:
        sizes = groupings.divided(moment(), groupings.get(db(), ident).groups).sizes
    except d.DefinitionError as problem:
        raise Invalid(str(problem), problem.line) from None
    return flask.jsonify(
        items=[{"key": s.key, "name": s.name, "size": s.size, "match": s.own} for s in sizes]
    )
