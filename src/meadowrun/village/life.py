"""The village's people living through a span of time: each deed a real request to the application,
at its moment."""

import datetime as dt
import email
import email.policy
import http.client
import json
import secrets
import threading
import urllib.error
import urllib.parse
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from meadowrun.base import signing
from meadowrun.base.logs import log
from meadowrun.village import everyday, minds, post
from meadowrun.village.browsers import new_browser
from meadowrun.village.store import Store

READER = "Village reader 1.0"
PROGRAM = "Village mail proxy 1.0"
TILL = "Village till 1.0"
#: What whoever wants what a page of the observatory's website offers does there, by its last word;
#: on any other page they buy a ticket.
OFFERED = {
    "join": "membership_renewed",
    "lectures": "lecture_booked",
    "survey": "survey_answered",
}


class _NoRedirect(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *arguments: Any) -> None:
        return None


_opener = urllib.request.build_opener(_NoRedirect)


class Life:
    """`secret` signs the moments that requests carry; `site` is the village's own website with its
    key."""

    def __init__(
        self,
        store: Store,
        secret: str,
        inbound: tuple[str, int],
        site: str,
        site_key: str,
        app_url: str,
    ):
        self.store, self.secret, self.inbound = store, secret, inbound
        self.site, self.site_key, self.app_url = site, site_key, app_url
        self._thinking = threading.Lock()

    def next_due(self) -> float | None:
        # What people do every day would be next every other minute.
        found = self.store.rows(
            "SELECT min(due) AS due FROM plans WHERE done = 0 AND deed <> 'did'"
        )
        due: float | None = found[0]["due"]
        return due

    def live(self, since: float, until: float, most: int) -> int:
        """Lives from `since` on: does up to `most` of what is due by `until`, the earliest first;
        returns how many deeds are still due."""
        self._make_up_minds(since, until)
        plans = self.store.rows(
            "SELECT p.id, p.due, p.deed, p.detail, m.address, m.raw, m.return_path, m.id AS mail "
            "FROM plans p LEFT JOIN mails m ON m.id = p.mail_id WHERE p.done = 0 AND p.due <= ? "
            "ORDER BY p.due LIMIT ?",
            until,
            most,
        )
        self._tell_what_they_did([one for one in plans if one["deed"] == "did"], until)
        with ThreadPoolExecutor(6) as pool:
            list(pool.map(self._do, [one for one in plans if one["deed"] != "did"]))
        left = self.store.rows("SELECT count(*) AS n FROM plans WHERE done = 0 AND due <= ?", until)
        return int(left[0]["n"])

    def _tell_what_they_did(self, plans: list[Any], until: float) -> None:
        """The observatory's till tells what people did of themselves, all of it at once."""
        if not plans:
            return
        events = [
            {
                "id": f"till {one['id']}",
                "at": dt.datetime.fromtimestamp(one["due"], dt.UTC).isoformat(),
                **json.loads(one["detail"]),
            }
            for one in plans
        ]
        moment = dt.datetime.fromtimestamp(until, dt.UTC).isoformat()
        try:
            # One who was erased since must not keep the others from being told of.
            if not self._bring(events, moment) and not sum(
                self._bring([one], moment) for one in events
            ):
                log.warning("nothing that the village's till tells is taken", events=len(events))
        except OSError as problem:
            log.warning("the village's till reaches nobody", problem=repr(problem))
        for one in plans:
            self.store.write("UPDATE plans SET done = 1 WHERE id = ?", one["id"])

    def _bring(self, events: list[dict[str, Any]], moment: str | None) -> bool:
        """Brings events in by the API, as the till does; says whether they are taken. Raises
        OSError when the application does not answer."""
        answer = self.ask(
            f"{self.app_url}/api/v1/events",
            moment,
            TILL,
            json.dumps({"events": events}).encode(),
            {
                "Content-Type": "application/json",
                "Authorization": f"Bearer {self.store.key('till')}",
            },
        )
        return answer.startswith("{")

    def _do(self, plan: Any) -> None:
        moment = dt.datetime.fromtimestamp(plan["due"], dt.UTC).isoformat()
        try:
            if plan["address"] is None:
                self._elsewhere(plan["deed"], json.loads(plan["detail"]), moment)
            else:
                self.deed(
                    plan["deed"],
                    plan["detail"],
                    plan["address"],
                    plan["raw"],
                    plan["return_path"],
                    moment,
                )
        except (OSError, ValueError, http.client.HTTPException) as problem:
            # What comes of one deed must not keep the others from theirs.
            log.warning("an action of the village failed", deed=plan["deed"], problem=repr(problem))
        finally:
            self.store.write("UPDATE plans SET done = 1 WHERE id = ?", plan["id"])

    def _make_up_minds(self, since: float, until: float) -> None:
        """What people will do about texts and push notifications that came since the last time, and
        who will come by until then."""
        plans: list[minds.Plan] = []
        with self._thinking:
            texts = self.store.rows(
                "SELECT t.*, k.contact, k.address FROM texts t JOIN known_as k ON k.phone = "
                "t.number WHERE t.id > ? AND t.mine = 0 ORDER BY t.id",
                self.store.mark("texts"),
            )
            for row in texts:
                if resident := self.store.resident(row["address"]):
                    plans += minds.of_text(
                        resident, row["contact"], row["key"], row["number"], row["text"], since
                    )
            notifications = self.store.rows(
                "SELECT n.*, coalesce(b.contact, a.contact) AS contact FROM notifications n LEFT "
                "JOIN browsers b ON b.id = n.browser LEFT JOIN apps a ON a.token = n.browser "
                "WHERE n.id > ? ORDER BY n.id",
                self.store.mark("notifications"),
            )
            for row in notifications:
                if resident := self.store.resident_of(row["contact"]):
                    plans += minds.of_notification(
                        resident, row["contact"], row["topic"], json.loads(row["payload"]), since
                    )
            start = max(since, self.store.mark("strolls"))
            if until > start:
                plans += minds.strolls(
                    [
                        row["contact"]
                        for row in self.store.rows("SELECT contact FROM known_as ORDER BY rowid")
                    ],
                    start,
                    until,
                )
            for plan in plans:
                self.store.plan(plan.due, plan.deed, json.dumps(plan.detail))
            for name, rows in (("texts", texts), ("notifications", notifications)):
                if rows:
                    self.store.set_mark(name, rows[-1]["id"])
            self.store.set_mark("strolls", max(start, until))
            self._plan_days(since, until)

    def _plan_days(self, since: float, until: float) -> None:
        """Plans what people do of themselves on each day up to a moment that is not planned."""
        planned = self.store.mark("everyday")
        if not self.store.key("till") or until < planned:
            return
        habits, doings = self.store.habits(), self.store.doings()
        day = dt.datetime.fromtimestamp(max(since, planned), dt.UTC).date()
        last = dt.datetime.fromtimestamp(until, dt.UTC).date()
        while day <= last:
            for plan in everyday.of_day(habits, doings, day):
                if plan.due > since:
                    self.store.plan(plan.due, plan.deed, json.dumps(plan.detail))
            day += dt.timedelta(days=1)
        midnight = dt.datetime.combine(day, dt.time(), dt.UTC)
        self.store.set_mark("everyday", midnight.timestamp())

    def _elsewhere(self, deed: str, detail: dict[str, Any], moment: str) -> None:
        """A deed that no mail is behind. Raises OSError when the application does not answer."""
        if deed == "tap":
            self._visit(self.ask(detail["link"], moment, READER), moment)
        elif deed == "answer":
            self.store.write(
                "INSERT INTO texts (key, number, sender, text, at, mine) VALUES (?, ?, ?, ?, ?, 1)",
                secrets.token_hex(8),
                detail["number"],
                detail["number"],
                detail["text"],
                dt.datetime.fromisoformat(moment).timestamp(),
            )
            mark = signing.sign_text(self.secret, "gateway", "sms")
            self.ask(
                f"{self.app_url}/gateway/sms/{mark}/inbound",
                moment,
                READER,
                json.dumps({"from": detail["number"], "text": detail["text"]}).encode(),
                {"Content-Type": "application/json"},
            )
        elif deed == "spend":
            self._tell(
                f"{self.site}/observatory/tickets",
                self._sign(detail["contact"], moment),
                "ticket_bought",
                {"amount": detail["amount"]},
                moment,
            )
        elif deed == "stroll":
            self._tell(
                f"{self.site}/observatory/",
                self._sign(detail["contact"], moment),
                "page_viewed",
                {"page": "/observatory/"},
                moment,
            )

    def _sign(self, contact: str, moment: str) -> str:
        """By what the website knows a visitor again: their first click on a link left it with their
        browser."""
        return signing.visitor(self.secret, int(contact), dt.datetime.fromisoformat(moment))

    def deed(
        self, deed: str, detail: str, address: str, raw: bytes, return_path: str, moment: str | None
    ) -> None:
        """One deed, now or at a signed moment. Raises OSError when the application does not
        answer."""
        if deed in ("open", "prefetch"):
            pixel = post.pixel_of(raw)
            if pixel:
                self.ask(pixel, moment, READER if deed == "open" else PROGRAM)
        elif deed == "click":
            self._visit(self.ask(detail, moment, READER), moment)
        elif deed == "buy":
            self._buy(raw, float(detail), moment)
        elif deed == "leave":
            message = email.message_from_bytes(raw, policy=email.policy.default)
            ways = str(message["List-Unsubscribe"] or "").split(",")
            # Of several ways the first is the one of a click (RFC 8058).
            target = ways[0].strip().strip("<>")
            if target:
                self.ask(target, moment, READER, b"List-Unsubscribe=One-Click")
        elif deed == "reply":
            post.reply(*self.inbound, address, raw)
        elif deed == "return":
            post.return_mail(*self.inbound, return_path, address, raw)
        elif deed == "complain":
            post.complain(*self.inbound, return_path, raw)

    def ask(
        self,
        target: str,
        moment: str | None,
        agent: str,
        data: bytes | None = None,
        headers: dict[str, str] | None = None,
    ) -> str:
        """One request; returns where it was sent on to, or what came back, or nothing."""
        request = urllib.request.Request(target, data, {"User-Agent": agent, **(headers or {})})
        if moment:
            request.add_header("X-Village-Moment", moment)
            request.add_header(
                "X-Village-Signature", signing.sign_text(self.secret, "moment", moment)
            )
        try:
            with _opener.open(request, timeout=20) as answer:
                return str(answer.read().decode(errors="replace"))
        except urllib.error.HTTPError as answer:
            return answer.headers.get("Location") or ""

    def _visit(self, target: str, moment: str | None) -> None:
        """A page of the village's own website, whose script tells what is seen."""
        if not target.startswith(self.site):
            return
        visitor = urllib.parse.parse_qs(urllib.parse.urlsplit(target).query).get("mr", [""])[0]
        if visitor:
            self._tell(
                target, visitor, "page_viewed", {"page": urllib.parse.urlsplit(target).path}, moment
            )

    def _buy(self, raw: bytes, amount: float, moment: str | None) -> None:
        body = email.message_from_bytes(raw, policy=email.policy.default).get_body(("html",))
        links = post.LINK.findall(body.get_content()) if body else []
        if not links:
            return
        # Coming back to the ticket page needs the sign that the first click left behind.
        target = self.ask(links[0], moment, PROGRAM)
        parts = urllib.parse.urlsplit(target)
        visitor = urllib.parse.parse_qs(parts.query).get("mr", [""])[0]
        event = OFFERED.get(parts.path.rpartition("/")[2])
        if visitor and event:
            score = {"score": 1 + int(amount) % 10} if event == "survey_answered" else {}
            told = {"event": event, "contact": int(visitor.partition(".")[0]), "details": score}
            if not self._bring([told | ({"at": moment} if moment else {})], moment):
                log.warning("what somebody did on the village's site is not taken", kind=event)
        elif visitor:
            self._tell(self.site, visitor, "ticket_bought", {"amount": amount}, moment)

    def _tell(
        self, page: str, visitor: str, event: str, details: dict[str, Any], moment: str | None
    ) -> None:
        """What the website's script tells; the in-app message that may come of it is answered by
        who sees it."""
        answer = self._post(
            page, "/site/events", {"visitor": visitor, "event": event, "details": details}, moment
        )
        if in_app := answer.get("in_app"):
            self._see(page, in_app, visitor, moment)

    def _post(
        self, page: str, path: str, data: dict[str, Any], moment: str | None
    ) -> dict[str, Any]:
        parts = urllib.parse.urlsplit(page)
        answer = self.ask(
            f"{self.app_url}{path}",
            moment,
            READER,
            json.dumps({"key": self.site_key, **data}).encode(),
            {"Origin": f"{parts.scheme}://{parts.netloc}", "Content-Type": "application/json"},
        )
        return dict(json.loads(answer)) if answer.startswith("{") else {}

    def _see(self, page: str, in_app: dict[str, Any], visitor: str, moment: str | None) -> None:
        contact = visitor.partition(".")[0]
        resident = self.store.resident_of(contact)
        answers, number = (
            minds.of_in_app(resident, in_app["token"], in_app["buttons"], moment or "")
            if resident
            else (False, None)
        )
        if not answers:
            return
        later = (
            (dt.datetime.fromisoformat(moment) + dt.timedelta(seconds=12)).isoformat()
            if moment
            else None
        )
        self._post(
            page,
            "/site/in-app",
            {"visitor": visitor, "token": in_app["token"], "button": number},
            later,
        )
        button = in_app["buttons"][number] if number is not None else {}
        if button.get("act") == "open" and button["href"]:
            # They are on their way: what would come up on the next page is not looked at any more.
            self.ask(button["href"], later, READER)
        elif button.get("act") == "allow":
            self._post(
                page,
                "/site/push",
                {"visitor": visitor, "subscription": new_browser(self.store, contact, self.site)},
                later,
            )
