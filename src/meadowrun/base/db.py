"""The database: one engine a process, explicit sessions, typed declarative base."""

import contextlib
import datetime as dt
from collections.abc import Iterable, Iterator
from typing import Any, TypeVar

import orjson
import psycopg.types.json
import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import JSONB

from meadowrun.base.errors import NotFound
from meadowrun.core.language import Wording

# A send reads one JSON value for each person: the standard library's reader was a tenth of its
# time.
psycopg.types.json.set_json_loads(orjson.loads)


def number_array(numbers: Iterable[int]) -> str:
    """Numbers as PostgreSQL reads them in one text, to be cast to bigint[]."""
    return f"{{{','.join(map(str, numbers))}}}"


class Base(orm.DeclarativeBase):
    """Base of every table. Times are stored in UTC with their zone."""

    type_annotation_map = {
        dt.datetime: sa.DateTime(timezone=True),
        str: sa.Text(),
        dict[str, Any]: JSONB(),
        list[Any]: JSONB(),
        list[str]: sa.ARRAY(sa.Text()),
        list[int]: sa.ARRAY(sa.BigInteger()),
    }
    metadata = sa.MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "ck": "ck_%(table_name)s_%(constraint_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )


class Database:
    """Engine and session maker for one address."""

    def __init__(self, url: str, pool_size: int = 10):
        self.url = url
        self.engine = sa.create_engine(
            url.replace("postgresql://", "postgresql+psycopg://", 1),
            pool_size=pool_size,
            max_overflow=20,
            pool_pre_ping=True,
            # What people are and write does not get into logs with the statement that failed.
            hide_parameters=True,
            # Generic plans of prepared statements were measured 1.3 to 3 times slower on segment
            # queries.
            connect_args={
                "prepare_threshold": None,
                "connect_timeout": 5,
                # A server notices a client that was killed, and a client a server it no
                # longer reaches.
                "options": "-c timezone=UTC -c jit=off -c client_connection_check_interval=2000",
                "keepalives_idle": 30,
                "keepalives_interval": 10,
                "tcp_user_timeout": 60_000,
            },
        )
        # A session that is over stays over: used again it would hold a connection, and a
        # transaction, that nobody ends.
        self.sessions = orm.sessionmaker(
            self.engine, expire_on_commit=False, close_resets_only=False
        )

    @contextlib.contextmanager
    def session(self) -> Iterator[orm.Session]:
        """A session that commits when the block ends well and rolls back otherwise."""
        with self.sessions() as session, session.begin():
            yield session

    def problem(self) -> str | None:
        """Why the database does not answer, in its own words; None when it does."""
        try:
            with self.engine.connect() as connection:
                connection.execute(sa.text("SELECT 1"))
        except sa.exc.SQLAlchemyError as trouble:
            return in_its_words(trouble)
        return None

    def close(self) -> None:
        self.engine.dispose()


def in_its_words(trouble: sa.exc.SQLAlchemyError) -> str:
    """What the database itself says is wrong, in one line."""
    return str(trouble.__cause__ or trouble).strip().splitlines()[0]


Row = TypeVar("Row", bound=Base)


def existing(session: orm.Session, model: type[Row], ident: object, what: str) -> Row:
    """The row with this key. Raises NotFound: “This <what> does not exist any more.”"""
    row = session.get(model, ident)
    if row is None:
        raise NotFound(Wording("This %(what)s does not exist any more.", what=what))
    return row


def rows_changed(result: sa.Result[Any]) -> int:
    """How many rows a statement added, changed or deleted."""
    return int(result.rowcount)  # type: ignore[attr-defined]


def driver(session: orm.Session) -> Any:
    """The psycopg connection under a session, for COPY and binary results; same transaction."""
    return session.connection().connection.driver_connection


def place_of(session: orm.Session) -> str:
    """Which database a session is of: tests and benches open several in one process."""
    return str(session.get_bind().engine.url)


def ensure_months(session: orm.Session, first: dt.date, last: dt.date) -> None:
    """Makes sure that every table partitioned by month has the months from `first` to `last`."""
    session.execute(sa.text("SELECT ensure_months(:first, :last)"), {"first": first, "last": last})


def as_like(text: str) -> str:
    """A text as a part of a LIKE pattern that stands for nothing but itself."""
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def called(session: orm.Session, model: Any, words: str, most: int) -> list[tuple[int, str]]:
    """Number and name of the rows of a named table whose names hold some words in small letters,
    the newest first."""
    pattern = f"%{as_like(words)}%"
    rows = session.execute(
        sa.select(model.id, model.name)
        .where(sa.func.lower(model.name).like(pattern))
        .order_by(model.id.desc())
        .limit(most)
    )
    return [(row[0], row[1]) for row in rows]
