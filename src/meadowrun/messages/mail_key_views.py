"""The page of mail domains: the keys that their emails are signed with."""

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.messages import mail_keys
from meadowrun.shell.request import Answer, actor, db, done, needs, not_done, now, settings

pages = flask.Blueprint("mail_keys", __name__, url_prefix="/mail-domains")


@pages.get("")
def table() -> Answer:
    """Each domain with its keys and what is to be published."""
    return flask.render_template(
        "messages/mail_keys.html",
        domains=[(name, mail_keys.keys_of(db(), name)) for name in mail_keys.domains(db())],
    )


@pages.post("/make")
@needs("admin")
def make() -> Answer:
    """Makes keys of a domain."""
    domain = flask.request.form.get("domain", "")
    try:
        mail_keys.make(db(), actor(), now(), settings(), domain)
    except MeadowrunError as problem:
        return not_done(problem, "mail_keys.table")
    return done("mail_keys.table", "Publish the records; then use the keys.")


@pages.post("/<int:ident>/use")
@needs("admin")
def use(ident: int) -> Answer:
    """Signs with a key from now on."""
    found = mail_keys.use(db(), actor(), now(), ident)
    return done("mail_keys.table", Wording("Emails are signed with %(key)s.", key=found.selector))


@pages.post("/<int:ident>/delete")
@needs("admin")
def delete(ident: int) -> Answer:
    """Deletes a key that does not sign."""
    try:
        found = mail_keys.delete(db(), actor(), now(), ident)
    except MeadowrunError as problem:
        return not_done(problem, "mail_keys.table")
    return done("mail_keys.table", Wording("“%(name)s” was deleted.", name=found.selector))
