"""Claims by token, sends that cannot be done while anybody is open, batches that failed.

Revision ID: 0018
Revises: 0017
"""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"

COLUMNS = """
ALTER TABLE deliveries ADD COLUMN claim uuid, ADD COLUMN claimed_at timestamptz,
ADD COLUMN asked smallint NOT NULL DEFAULT 0;
ALTER TABLE sends ADD COLUMN open boolean NOT NULL DEFAULT FALSE, ADD COLUMN moved_at timestamptz;
CREATE TABLE send_troubles (
    send_id bigint NOT NULL REFERENCES sends (id) ON DELETE CASCADE,
    chunk integer NOT NULL,
    times smallint NOT NULL,
    at timestamptz NOT NULL,
    not_before timestamptz NOT NULL,
    reason text NOT NULL,
    CONSTRAINT pk_send_troubles PRIMARY KEY (send_id, chunk)
);
"""

#: A running or paused send is looked at by the sweep, and one that ended with people open.
OPEN = """
UPDATE sends s SET open = TRUE WHERE state IN ('running', 'paused') OR EXISTS (
    SELECT 1 FROM deliveries d WHERE d.send_id = s.id AND d.taken_at = s.taken_at
    AND d.outcome IN ('waiting', 'in_hand', 'deferred', 'in_doubt'));
CREATE INDEX ix_sends_open ON sends (id) WHERE open;
"""

FUNCTIONS = """
-- A send is done when nobody is left who may still be handed over or asked about,
-- and closed when nobody is in doubt either.
CREATE FUNCTION check_finished() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.state = 'done' AND OLD.state <> 'done' AND EXISTS (
        SELECT 1 FROM deliveries d WHERE d.send_id = NEW.id AND d.taken_at = NEW.taken_at
        AND (d.outcome IN ('waiting', 'in_hand', 'deferred') OR d.outcome = 'in_doubt'
        AND d.not_before IS NOT NULL)) THEN
        RAISE EXCEPTION 'send % cannot be done while people of it are open', NEW.id;
    END IF;
    IF OLD.open AND NOT NEW.open AND EXISTS (
        SELECT 1 FROM deliveries d WHERE d.send_id = NEW.id AND d.taken_at = NEW.taken_at
        AND d.outcome IN ('waiting', 'in_hand', 'deferred', 'in_doubt')) THEN
        RAISE EXCEPTION 'send % cannot be closed while people of it are open', NEW.id;
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER sends_finished BEFORE UPDATE OF state, open ON sends FOR EACH ROW EXECUTE FUNCTION
check_finished();

-- Nobody of a send that is done becomes open again, unless the send is set running first.
CREATE FUNCTION guard_reopened() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE found text;
BEGIN
    SELECT state INTO found FROM sends WHERE id = NEW.send_id FOR SHARE;
    IF found = 'done' THEN
        RAISE EXCEPTION 'send % is done: set it running before people of it are opened again',
        NEW.send_id;
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER deliveries_reopened AFTER UPDATE OF outcome ON deliveries FOR EACH ROW
    WHEN (NEW.outcome IN ('waiting', 'in_hand', 'deferred')
    AND OLD.outcome NOT IN ('waiting', 'in_hand', 'deferred'))
    EXECUTE FUNCTION guard_reopened();
"""


def upgrade() -> None:
    for part in (COLUMNS, OPEN, FUNCTIONS):
        op.execute(sa.text(part.replace(":", r"\:")))
