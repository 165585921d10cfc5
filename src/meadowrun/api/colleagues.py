"""The API's endpoints about tasks for colleagues."""

import flask

from meadowrun.api.door import TEXT, Json, endpoint, thing
from meadowrun.base.audit import Actor
from meadowrun.shell.request import Answer, body, db, now
from meadowrun.tasks import actions, queries
from meadowrun.tasks.models import STATES, ColleagueTask


def _task(found: ColleagueTask) -> Json:
    return {
        "id": found.id,
        "contact": found.contact_id,
        "kind": found.kind,
        "subject": found.subject,
        "priority": found.priority,
        "due_at": found.due_at.isoformat(),
        "colleague": found.user_id,
        "state": found.state,
        "outcome": found.outcome,
        "journey": found.source_id if found.source == "journey" else None,
    }


@endpoint(
    "get",
    "/v1/tasks",
    "Tasks for colleagues in one state, those due first, at most 200",
    query={"state": {"enum": list(STATES), "default": "open"}},
)
def all_tasks(actor: Actor) -> Answer:
    state = flask.request.args.get("state", "open")
    return flask.jsonify(items=[_task(row.task) for row in queries.tasks(db(), None, state)])


@endpoint(
    "post",
    "/v1/tasks/<int:ident>/finish",
    "Record the outcome of a task",
    takes=thing(["state"], state={"enum": ["done", "not_needed"]}, outcome=TEXT),
)
def finish_task(actor: Actor, ident: int) -> Answer:
    found, data = queries.task(db(), ident), body()
    actions.finish(db(), actor, now(), found, data["state"], data.get("outcome", ""))
    return flask.jsonify(_task(found))
