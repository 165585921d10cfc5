"""Whether a world is so large that what looks at everybody takes long."""

import sqlalchemy as sa
from sqlalchemy import orm

#: With more contacts than this, what looks at all of them is kept, estimated first, or worked out
#: behind its page's frame.
LARGE = 200_000
#: What the database believes to have: exact enough to tell a large world, and there without
#: counting.
_ABOUT = "SELECT reltuples FROM pg_class WHERE oid = 'contacts'::regclass"


def is_large(session: orm.Session) -> bool:
    """Whether this world is large; asked once a session."""
    if "about" not in session.info:
        session.info["about"] = session.scalar(sa.text(_ABOUT))
    return bool(session.info["about"] > LARGE)
