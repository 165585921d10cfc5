"""The way into the API: keys, pages of results, and the description that grows with each endpoint."""

from collections.abc import Callable
from typing import Any

import flask

from meadowrun.base.audit import Actor
from meadowrun.base.clock import machine_now
from meadowrun.base.errors import Invalid, NotAllowed
from meadowrun.shell.request import db, public
from meadowrun.tracking import actions as tracking

pages = flask.Blueprint("api", __name__, url_prefix="/api")
Json = dict[str, Any]
#: path → method → its operation, as OpenAPI wants it
PATHS: dict[str, Json] = {}
VIEWS: list[Callable[..., Any]] = []
PROBLEM = {"type": "object", "properties": {"error": {"type": "string"}, "where": {"type": ["string", "null"]}}}
MOST = 1000


def key_actor() -> Actor:
    """Who acts by the live secret key of this request. Raises NotAllowed."""
    given = flask.request.headers.get("Authorization", "")
    key = tracking.key_of(db(), given.removeprefix("Bearer ").strip(), "secret") if given.startswith("Bearer ") else None
    if key is None:
        raise NotAllowed("Send a live key: Authorization: Bearer key_… An administrator makes one under “Website script "
                         "and API keys”.")
    key.last_used_at = machine_now()
    flask.g.api_key = key
    return Actor(None, f"API key “{key.name}”", "admin", flask.g.get("request_id", ""))


def endpoint(method: str, rule: str, summary: str, *, takes: Json | None = None, gives: str = "What was asked for",
             query: Json | None = None, codes: tuple[int, ...] = (200,), as_form: bool = False) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Registers a view under /api, and its description. The view gets the key's actor first. `as_form` says that what it takes comes
    as a form with files, not as JSON."""
    def decorate(view: Callable[..., Any]) -> Callable[..., Any]:
        def guarded(**values: Any) -> Any:
            return view(key_actor(), **values)

        guarded.__name__, guarded.__doc__ = view.__name__, view.__doc__
        shown = rule.replace("<int:", "{").replace("<path:", "{").replace("<", "{").replace(">", "}")
        names = [part[1:-1] for part in shown.split("/") if part.startswith("{")]
        operation: Json = {
            "summary": summary, "operationId": view.__name__,
            "parameters": [*({"name": n, "in": "path", "required": True, "schema": {
                "type": "integer" if f"<int:{n}>" in rule else "string"}} for n in names),
                *({"name": n, "in": "query", "required": False, "schema": s} for n, s in (query or {}).items())],
            "responses": {**{str(c): {"description": gives} for c in codes}, **{str(code): {
                "description": text, "content": {"application/json": {"schema": PROBLEM}}} for code, text in (
                    (403, "No live key"), (404, "Nothing of that number"), (409, "It clashes with what is there"),
                    (422, "Something cannot be taken; “where” names it"))}}}
        if takes is not None:
            operation["requestBody"] = {"required": True, "content": {
                "multipart/form-data" if as_form else "application/json": {"schema": takes}}}
        PATHS.setdefault(f"/api{shown}", {})[method] = operation
        made = pages.route(rule, methods=[method.upper()])(public(guarded))
        VIEWS.append(made)
        return made
    return decorate


def whole(name: str, default: int, most: int | None = None) -> int:
    """A whole number among the address's arguments. Raises Invalid."""
    text = flask.request.args.get(name, str(default))
    if not text.isdigit():
        raise Invalid(f"“{name}” must be a whole number.", name)
    return min(int(text), most) if most else int(text)


def paged(rows: list[Any], limit: int, shape: Callable[[Any], Json], number: Callable[[Any], int]) -> flask.Response:
    """One page of rows that were asked for with one more than `limit`; “after” leads on, and is absent at the end."""
    answer: Json = {"items": [shape(row) for row in rows[:limit]]}
    if len(rows) > limit:
        answer["after"] = number(rows[limit - 1])
    return flask.jsonify(answer)


PAGED: Json = {"after": {"type": "integer", "description": "the “after” of the page before"},
               "limit": {"type": "integer", "maximum": MOST, "default": 100}}


def thing(required: list[str], **properties: Json) -> Json:
    """A JSON Schema of an object."""
    return {"type": "object", "required": required, "properties": properties}


TEXT: Json = {"type": "string"}
MOST_NUMBERS = 100_000
NUMBERS: Json = {"type": "array", "items": {"type": "integer"}, "maxItems": MOST_NUMBERS}


def numbers(data: Json) -> list[int]:
    """The contact numbers that a posted object names as “contacts”. Raises Invalid."""
    given = data.get("contacts", [])
    if not isinstance(given, list) or not all(isinstance(n, int) and not isinstance(n, bool) for n in given) or len(given) > MOST_NUMBERS:
        raise Invalid(f"“contacts” is a list of at most {MOST_NUMBERS:,} contact numbers.", "contacts")
    return given
