"""The table of campaigns: what runs, what comes next, and a line of dates."""

import datetime as dt
import re
import zoneinfo

from meadowrun.base import clock
from meadowrun.base.manifest import Dated
from meadowrun.campaigns.models import Campaign
from meadowrun.journeys import actions as journeys
from meadowrun.sends.queries import dates_by_campaign
from meadowrun.shell.draw import dates
from tests.conftest import NOW
from tests.store.people import IDA, kinds, ready_send
from tests.store.web import sign_in
from tests.store.work import dispatched

DAY = dt.timedelta(days=1)
TODAY = NOW.date()
LONDON = zoneinfo.ZoneInfo("Europe/London")


def test_what_runs_and_what_comes_next_is_said(client, database):
    with clock.at(NOW), database.session() as session:
        kinds(session)
        gone = ready_send(session, NOW, {"in": [], "out": []})
        gone.name, gone.state = "Went out", "done"
        dispatched(session, gone, NOW - 2 * DAY, "done", 0)
        ahead = ready_send(session, NOW, {"in": [], "out": []})
        ahead.name, ahead.state = "Comes next", "planned"
        ahead.leaves_at, ahead.campaign_id = NOW + 3 * DAY, gone.campaign_id
        only = ready_send(session, NOW, {"in": [], "out": []})
        only.name, only.state = "Long ago", "done"
        dispatched(session, only, NOW - 90 * DAY, "done", 0)
        campaign = session.get_one(Campaign, gone.campaign_id)
        made = journeys.create(session, IDA, NOW, campaign, "Welcome")
        made.state = "running"
        journeys.create(session, IDA, NOW, campaign, "Not started")
        found = dates_by_campaign(session)
        assert [(one.name, one.ahead) for one in found[campaign.id]] == [
            ("Went out", False),
            ("Comes next", True),
        ]
    sign_in(client)
    with clock.at(NOW):
        page = client.get("/campaigns").text
    assert "Welcome" in page and "Not started" not in page and "Comes next" in page
    assert re.search(r"last: <a[^>]*>Long ago</a>", page)


def test_a_line_of_dates_has_today_in_its_middle():
    """184 days wide: 10 days on are 10/184 of it to the right of the middle."""
    found = [
        Dated(NOW + 10 * DAY, "Ahead & more", "/sends/1", True),
        Dated(NOW - 46 * DAY, "Before", "/results/1", False),
        Dated(NOW - 200 * DAY, "Long before", "/results/2", False),
    ]
    drawn = dates(found, TODAY - 92 * DAY, TODAY, TODAY, LONDON, width=184)
    assert 'x="100.0" y="5"' in drawn and 'x="44.0" y="5"' in drawn
    assert "Ahead &amp; more" in drawn and "Long before" not in drawn
    assert '<rect x="0.0" y="8" width="92.0"' in drawn
    assert 'y="8"' not in dates([], None, None, TODAY, LONDON)
