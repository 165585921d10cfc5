"""The way into the API: keys, pages of results, and the description that grows with each
endpoint."""

import datetime as dt
import re
from collections.abc import Callable
from typing import Any

import flask
import jsonschema

from meadowrun.base import own_writes, signing
from meadowrun.base.audit import Actor
from meadowrun.base.clock import machine_now
from meadowrun.base.errors import Invalid, NotAllowed
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.shell import keys
from meadowrun.shell.models import SCOPES, ApiKey
from meadowrun.shell.request import Answer, body, db, now, public, settings

pages = flask.Blueprint("api", __name__, url_prefix="/api")
Json = dict[str, Any]
#: path → method → its operation, as OpenAPI wants it
PATHS: dict[str, Json] = {}
VIEWS: list[Callable[..., Any]] = []
PROBLEM = {
    "type": "object",
    "properties": {"error": {"type": "string"}, "where": {"type": ["string", "null"]}},
}
MOST = 1000
#: That a key was used is kept to the minute: it would make every request wait for the others of its
#: key.
_USED_AGAIN = dt.timedelta(minutes=1)


#: Whole numbers are written without a point.
_Validator = jsonschema.validators.extend(
    jsonschema.Draft202012Validator,
    type_checker=jsonschema.Draft202012Validator.TYPE_CHECKER.redefine(
        "integer", lambda _, value: isinstance(value, int) and not isinstance(value, bool)
    ),
)


#: What is done at an address, by how it begins and its method → the scope a key needs for it.
#: Looking needs “read” everywhere.
_SCOPES = (
    ("/v1/contacts/find", "read"),
    ("/v1/segments/count", "read"),
    ("/v1/events/kinds", "fields"),
    ("/v1/events", "events"),
    ("/v1/fields", "fields"),
    ("/v1/segments", "segments"),
    ("/v1/groupings", "segments"),
    ("/v1/scores", "segments"),
    ("/v1/merges", "erase"),
    ("/v1/sends", "sends"),
    ("/v1/message-limits", "sends"),
    ("/v1/quiet-hours", "sends"),
    ("/v1/sending", "sends"),
    ("/v1/mail-speeds", "sends"),
    ("/v1/warm-ups", "sends"),
    ("/v1/journeys", "sends"),
)


def scope_of(method: str, rule: str) -> str:
    """What a key must be allowed for an endpoint: one of SCOPES."""
    if method == "get":
        return "read"
    if rule.startswith("/v1/contacts/<int:ident>") and (
        method == "delete" or rule.endswith("/merge")
    ):
        return "erase"
    return next((scope for begin, scope in _SCOPES if rule.startswith(begin)), "people")


def _bearer() -> str:
    """What this request shows to be let in: a key or a token; empty where nothing."""
    given = flask.request.headers.get("Authorization", "")
    return given.removeprefix("Bearer ").strip() if given.startswith("Bearer ") else ""


def _shown() -> ApiKey | None:
    """The live key that this request shows, itself or by a token."""
    given = _bearer()
    if given.startswith("token_"):
        return keys.key_by_token(db(), settings().secret, given, machine_now())
    return keys.key_of(db(), given, "secret", machine_now()) if given else None


_TOKEN_DOCUMENTED: Json = {
    "summary": "Exchange a key for a token that works for an hour (RFC 6749, 4.4)",
    "operationId": "token",
    "parameters": [],
    "security": [{"key": []}],
    "responses": {
        "200": {
            "description": (
                "“access_token”, “token_type” (Bearer), “expires_in” in seconds, and “scope”"
            )
        },
        "403": {"description": "No live key", "content": {"application/json": {"schema": PROBLEM}}},
    },
}


@pages.post("/v1/token")
@public
def token() -> Answer:
    key = keys.key_of(db(), _bearer(), "secret", machine_now()) if _bearer() else None
    if key is None:
        raise NotAllowed("Send a live key: Authorization: Bearer key_…")
    key.last_used_at = machine_now()
    answer = flask.jsonify(
        access_token=signing.program_token(settings().secret, key.id, machine_now()),
        token_type="Bearer",
        expires_in=int(signing.TOKEN_WORKS.total_seconds()),
        scope=" ".join(key.may),
    )
    answer.headers["Cache-Control"] = "no-store"
    return answer


PATHS["/api/v1/token"] = {"post": _TOKEN_DOCUMENTED}
VIEWS.append(token)


def key_actor(scope: str) -> Actor:
    """Who acts by the live secret key of this request, which must be allowed `scope`. Raises
    NotAllowed."""
    key = _shown()
    if key is None:
        raise NotAllowed(
            "Send a token that works, or a live key: Authorization: Bearer … An administrator "
            "makes keys under “Website script "
            "and API keys”, and POST /api/v1/token gives a token for one."
        )
    if not key.direct and not _bearer().startswith("token_"):
        raise NotAllowed(
            Wording(
                "The key “%(name)s” is only exchanged for tokens: post it to /api/v1/token, "
                "and send the token it gives.",
                name=key.name,
            )
        )
    if scope not in key.may:
        raise NotAllowed(
            Wording(
                "The key “%(name)s” may not do this: it needs “%(scope)s” (%(scopes)s). An "
                "administrator makes another key.",
                name=key.name,
                scope=scope,
                scopes=SCOPES[scope],
            )
        )
    moment = machine_now()
    if key.last_used_at is None or moment - key.last_used_at > _USED_AGAIN:
        key.last_used_at = moment
    flask.g.api_key = key
    actor = Actor(None, f"API key “{key.name}”", "admin", flask.g.get("request_id", ""))
    flask.g.who = actor.name
    own_writes.look_as(flask.g.who)
    return actor


def endpoint(
    method: str,
    rule: str,
    summary: str,
    *,
    takes: Json | None = None,
    gives: str = "What was asked for",
    query: Json | None = None,
    codes: tuple[int, ...] = (200,),
    as_form: bool = False,
    held_to: bool = True,
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Registers a view under /api, and its description. The view gets the key's actor first.

    What is posted is held to `takes` before; `as_form` says that it comes as a form with files, not
    as JSON; without `held_to` the view holds it to that itself, where that is much sooner done.
    """
    scope = scope_of(method, rule)
    validator = _Validator(_own(takes)) if takes is not None and held_to and not as_form else None

    def decorate(view: Callable[..., Any]) -> Callable[..., Any]:
        def guarded(**values: Any) -> Any:
            actor = key_actor(scope)
            if validator is not None:
                _hold(validator, body())
            return view(actor, **values)

        guarded.__name__, guarded.__doc__ = view.__name__, view.__doc__
        operation = _operation(rule, scope, gives, query or {}, codes)
        operation |= {"summary": summary, "operationId": view.__name__}
        if takes is not None:
            kind = "multipart/form-data" if as_form else "application/json"
            operation["requestBody"] = {"required": True, "content": {kind: {"schema": takes}}}
        PATHS.setdefault(f"/api{_documented(rule)}", {})[method] = operation
        made = pages.route(rule, methods=[method.upper()])(public(guarded))
        VIEWS.append(made)
        return made

    return decorate


def _documented(rule: str) -> str:
    """An address as OpenAPI writes it: “/v1/contacts/{ident}”."""
    return re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", rule)


def _operation(rule: str, scope: str, gives: str, query: Json, codes: tuple[int, ...]) -> Json:
    """What OpenAPI says of an endpoint besides its name and what it takes."""
    in_path = [
        {
            "name": name,
            "in": "path",
            "required": True,
            "schema": {"type": "integer" if f"<int:{name}>" in rule else "string"},
        }
        for name in re.findall(r"\{(\w+)\}", _documented(rule))
    ]
    in_query = [
        {"name": name, "in": "query", "required": False, "schema": schema}
        for name, schema in query.items()
    ]
    problems = (
        (403, f"No live key that may “{scope}”"),
        (404, "Nothing has this number"),
        (409, "It conflicts with what exists already"),
        (422, "Something is invalid; “where” names it"),
    )
    problem = {"content": {"application/json": {"schema": PROBLEM}}}
    return {
        "security": [{"key": [scope]}],
        "parameters": in_path + in_query,
        "responses": {
            **{str(code): {"description": gives} for code in codes},
            **{str(code): {"description": text, **problem} for code, text in problems},
        },
    }


#: what JSON calls a kind of value → how it is said
_KINDS = {
    "string": "a text",
    "integer": "a whole number",
    "number": "a number",
    "array": "a list",
    "object": "a JSON object",
    "boolean": "true or false",
    "null": "null",
}


def _own(schema: Any) -> Any:
    """A schema without references to schemas elsewhere: what those describe is read by its own
    reader, which names places better."""
    if isinstance(schema, dict):
        return {name: _own(value) for name, value in schema.items() if name != "$ref"}
    return [_own(one) for one in schema] if isinstance(schema, list) else schema


def _hold(validator: jsonschema.protocols.Validator, data: Json) -> None:
    """Raises Invalid with the place where posted JSON departs most from what an endpoint takes."""
    problem = jsonschema.exceptions.best_match(validator.iter_errors(data))
    if problem is None:
        return
    place = ".".join(map(str, problem.absolute_path))
    if problem.validator == "required":
        missing = next(name for name in problem.validator_value if name not in problem.instance)
        place = f"{place}.{missing}".lstrip(".")
        raise Invalid(Wording("“%(place)s” is missing.", place=place), place)
    wanted = problem.validator_value
    if problem.validator == "type":
        kinds = [wanted] if isinstance(wanted, str) else wanted
        raise Invalid(
            Wording(
                "“%(place)s” is %(kinds)s.",
                place=place,
                kinds=" or ".join(_KINDS[kind] for kind in kinds),
            ),
            place,
        )
    if problem.validator == "enum":
        raise Invalid(
            Wording(
                "“%(place)s” is one of %(allowed)s.",
                place=place,
                allowed=", ".join(map(str, wanted)),
            ),
            place,
        )
    raise Invalid(f"“{place}”: {problem.message}.", place)


def whole(name: str, default: int, most: int | None = None) -> int:
    """A whole number among the address's arguments; with `most`, how many are asked for: one at
    least, and no more than that are given. Raises Invalid."""
    text = flask.request.args.get(name, str(default))
    if not is_whole(text) or most and not int(text):
        raise Invalid(
            Wording(
                "“%(name)s” must be a whole number%(value)s.",
                name=name,
                value=", 1 at least" if most else "",
            ),
            name,
        )
    return min(int(text), most) if most else int(text)


def paged(
    rows: list[Any],
    limit: int,
    shape: Callable[[Any], Json],
    number: Callable[[Any], int],
    as_of: dt.datetime | None = None,
) -> flask.Response:
    """One page of rows that were asked for with one more than `limit`; “after” leads on, and is
    absent at the end. “as_of” is when it was looked up: now, where nothing else is said."""
    answer: Json = {
        "as_of": (as_of or now()).isoformat(),
        "items": [shape(row) for row in rows[:limit]],
    }
    if len(rows) > limit:
        answer["after"] = number(rows[limit - 1])
    return flask.jsonify(answer)


PAGED: Json = {
    "after": {"type": "integer", "description": "the “after” of the page before"},
    "limit": {
        "type": "integer",
        "minimum": 1,
        "default": 100,
        "description": f"how many; no more than {MOST} are given",
    },
}


def thing(required: list[str], **properties: Json) -> Json:
    """A JSON Schema of an object."""
    return {"type": "object", "required": required, "properties": properties}


TEXT: Json = {"type": "string"}
#: Contacts by their numbers.
NUMBERS: Json = {"type": "array", "items": {"type": "integer"}, "maxItems": 100_000}
