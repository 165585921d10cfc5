"""The commands. `./meadowrun` sets up what they need and comes here."""

import importlib
import pathlib
import sys
from typing import IO

import click
from sqlalchemy.exc import OperationalError

from meadowrun.base.db import in_its_words
from meadowrun.base.errors import MeadowrunError
from meadowrun.base.settings import Settings, declared

ROOT = pathlib.Path(__file__).resolve().parents[2]


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
def main() -> None:
    """Meadowrun: segment audiences, write personal messages, send them, see what they did."""


@main.command()
@click.option(
    "--scale", default=24_000, show_default=True, help="How many contacts the demo world has."
)
@click.option(
    "--port",
    default=8460,
    show_default=True,
    help="Port of the application; if it is in use, the next free one is taken.",
)
@click.option("--fresh", is_flag=True, help="Forget the demo world there is and make a new one.")
def demo(scale: int, port: int, fresh: bool) -> None:
    """Everything with demo data: database, web server, worker and the village around it."""
    from meadowrun.demo import run

    run.run(ROOT, scale, port, fresh)


@main.command(context_settings={"ignore_unknown_options": True})
@click.option("--long", "long_", is_flag=True, help="Also run the long tests.")
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED)
def test(long_: bool, arguments: tuple[str, ...]) -> None:
    """Style, types and tests, on a throw-away database. ARGUMENTS go to pytest."""
    from meadowrun.base import testing

    sys.exit(testing.run(ROOT, long_, list(arguments)))


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8460, show_default=True)
@click.option("--processes", default=1, show_default=True)
@click.option(
    "--fd", type=int, help="A socket that listens already, from the program that starts this."
)
def serve(host: str, port: int, processes: int, fd: int | None) -> None:
    """The web server."""
    from meadowrun.shell import server

    server.serve(Settings.read(), host, port, processes, fd)


@main.command()
def work() -> None:
    """A worker: carries out background jobs. Any number may run."""
    from meadowrun.base import worker
    from meadowrun.features import load_tasks

    worker.work(Settings.read(), load_tasks)


@main.command()
@click.option(
    "--fd", type=int, help="A socket that listens already, from the program that starts this."
)
def inbound(fd: int | None) -> None:
    """The listener for bounces and complaints."""
    from meadowrun.tracking import inbound

    inbound.run(Settings.read(), fd)


@main.command()
def migrate() -> None:
    """Brings the database to the state this version needs."""
    from meadowrun.base.db import Database
    from meadowrun.base.schema import migrate as apply

    database = Database(Settings.read().database_url)
    apply(database)
    database.close()
    click.echo("The database is up to date.")


@main.command()
def check() -> None:
    """Says what is missing or wrong: settings, database, workers, mail server and all that is set
    up."""
    from meadowrun.features import features
    from meadowrun.readiness import checking

    features(demo=False)
    wrong = 0
    for found in checking.check():
        click.echo(found.line)
        wrong += found.missing
    if wrong:
        sys.exit(f"meadowrun: {wrong} of these are not set up.")
    click.echo("Everything is set up.")


@main.group()
def user() -> None:
    """People who may sign in."""


@user.command("add")
@click.argument("email")
@click.option("--name", prompt=True)
@click.option(
    "--role", type=click.Choice(["viewer", "author", "approver", "admin"]), default="author"
)
@click.password_option()
def user_add(email: str, name: str, role: str, password: str) -> None:
    """Lets somebody sign in."""
    from meadowrun.base.clock import machine_now
    from meadowrun.base.db import Database
    from meadowrun.base.schema import is_behind
    from meadowrun.shell import accounts

    database = Database(Settings.read().database_url)
    try:
        if is_behind(database):
            sys.exit("meadowrun: The database is not up to date. Run: ./meadowrun migrate")
        with database.session() as session:
            accounts.add_user(session, machine_now(), email, name, role, password)
    finally:
        database.close()
    click.echo(f"{email} can sign in now.")


@main.command(context_settings={"ignore_unknown_options": True})
@click.argument("arguments", nargs=-1, type=click.UNPROCESSED)
def bench(arguments: tuple[str, ...]) -> None:
    """Measurements as ratios; see --help of it."""
    importlib.import_module("meadowrun.bench.run").main(list(arguments))


@main.command()
def shots() -> None:
    """Makes docs/screenshots from demo data."""
    from meadowrun.demo import shots as taking

    taking.run(ROOT)


@main.command()
@click.option(
    "--catalogue",
    type=click.File("wb"),
    help="Instead, writes what can be translated to a file: a catalogue of gettext.",
)
def words(catalogue: IO[bytes] | None) -> None:
    """Lists every visible string once, to be read in one go."""
    from meadowrun import visible

    if catalogue:
        from babel.messages.pofile import write_po

        from meadowrun.shell.language import catalogue as every

        write_po(catalogue, every.catalogue(), width=100)
        return
    for line in visible.listed(visible.every()):
        click.echo(line)


@main.command()
@click.option(
    "--marks",
    is_flag=True,
    help="Instead, the addresses that gateways tell things at; needs the settings.",
)
def settings(marks: bool) -> None:
    """Lists the settings, environment variables all."""
    if marks:
        from meadowrun.base import signing

        given = Settings.read()
        click.echo(
            f"{given.public_url}/gateway/sms/{signing.sign_text(given.secret, 'gateway', 'sms')}/"
        )
        return
    for one in declared():
        default = "Must be given." if one.default is None else f"Default: {one.default!r}."
        click.echo(f"{one.name}\n    {one.meaning}. {default}")


def run(arguments: list[str] | None = None) -> None:
    """A command as it was typed. What a person can put right ends in a sentence, not in a trace."""
    try:
        main(arguments, prog_name="./meadowrun")
    except MeadowrunError as problem:
        sys.exit(f"meadowrun: {problem}")
    except OperationalError as trouble:
        sys.exit(
            f"meadowrun: The database does not answer: {in_its_words(trouble)} "
            "MEADOWRUN_DATABASE_URL says where it is."
        )


if __name__ == "__main__":
    run()
