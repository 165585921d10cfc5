"""When a port of last time was taken, the demo moves; what it holds of its old addresses
follows."""

import json
import pathlib
from collections.abc import Mapping

import sqlalchemy as sa

from meadowrun.base.db import Database

#: where addresses of the village and of the application itself stand: table, column, its type
_PLACES = (
    ("messages", "document", "jsonb"),
    ("drafts", "document", "jsonb"),
    ("editions", "document", "jsonb"),
    ("editions", "compiled", "jsonb"),
    ("shared_parts", "lines", "jsonb"),
    ("shared_part_versions", "lines", "jsonb"),
    ("feeds", "url", "text"),
    ("push_devices", "endpoint", "text"),
    ("api_keys", "origins", "text[]"),
)


def follow(database: Database, memory: pathlib.Path, here: Mapping[str, str]) -> bool:
    """Changes each address that `memory` knows under a name to that of `here`, and remembers those.
    True when any had changed.

    Both map a name ("web", "village") to an address without a path. Mails that lie in a mailbox
    stay as they were sent.
    """
    last = json.loads(memory.read_text()) if memory.exists() else dict(here)
    moved = {address: here[name] for name, address in last.items() if address != here[name]}
    if moved:
        with database.session() as session:
            for table, column, kind in _PLACES:
                # By way of a sign that stands nowhere: the new address of the one can be the old
                # one of the other.
                text = f"{column}::text"
                values: dict[str, str] = {}
                for number, (old, new) in enumerate(moved.items()):
                    text = f"replace({text}, :old{number}, :mark{number})"
                    values |= {
                        f"old{number}": old,
                        f"mark{number}": f"⟦{number}⟧",
                        f"new{number}": new,
                    }
                for number in range(len(moved)):
                    text = f"replace({text}, :mark{number}, :new{number})"
                known = " OR ".join(
                    f"strpos({column}::text, :old{number}) > 0" for number in range(len(moved))
                )
                session.execute(
                    sa.text(f"UPDATE {table} SET {column} = CAST({text} AS {kind}) WHERE {known}"),
                    values,
                )
    memory.write_text(json.dumps(dict(here)))
    return bool(moved)
