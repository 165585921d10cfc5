"""The village's people living through a span of time: each deed a real request to the application, at its moment."""

import datetime as dt
import email
import email.policy
import urllib.error
import urllib.parse
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from meadowrun.base import signing
from meadowrun.village import post
from meadowrun.village.store import Store

READER = "Village reader 1.0"
PROGRAM = "Village mail proxy 1.0"


class _NoRedirect(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *arguments: Any) -> None:
        return None


_opener = urllib.request.build_opener(_NoRedirect)


class Life:
    """`secret` signs the moments that requests carry; `site` is the village's own website with its key."""

    def __init__(self, store: Store, secret: str, inbound: tuple[str, int], site: str, site_key: str, app_url: str):
        self.store, self.secret, self.inbound = store, secret, inbound
        self.site, self.site_key, self.app_url = site, site_key, app_url

    def next_due(self) -> float | None:
        found = self.store.rows("SELECT min(due) AS due FROM plans WHERE done = 0")
        return found[0]["due"]

    def live(self, until: float, most: int) -> int:
        """Does up to `most` of what is due by `until`, the earliest first; returns how many deeds are still due."""
        plans = self.store.rows(
            "SELECT p.id, p.due, p.deed, p.detail, m.address, m.raw, m.return_path, m.id AS mail FROM plans p "
            "JOIN mails m ON m.id = p.mail_id WHERE p.done = 0 AND p.due <= ? ORDER BY p.due LIMIT ?", until, most)
        with ThreadPoolExecutor(6) as pool:
            list(pool.map(self._do, plans))
        left = self.store.rows("SELECT count(*) AS n FROM plans WHERE done = 0 AND due <= ?", until)
        return int(left[0]["n"])

    def _do(self, plan: Any) -> None:
        moment = dt.datetime.fromtimestamp(plan["due"], dt.UTC).isoformat()
        try:
            self.deed(plan["deed"], plan["detail"], plan["address"], plan["raw"], plan["return_path"], moment)
        except OSError:
            pass
        finally:
            self.store.write("UPDATE plans SET done = 1 WHERE id = ?", plan["id"])

    def deed(self, deed: str, detail: str, address: str, raw: bytes, return_path: str, moment: str | None) -> None:
        """One deed, now or at a signed moment. Raises OSError when the application does not answer."""
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
            target = str(message["List-Unsubscribe"] or "").strip("<>")
            if target:
                self.ask(target, moment, READER, b"List-Unsubscribe=One-Click")
        elif deed == "return":
            post.return_mail(*self.inbound, return_path, address, raw)
        elif deed == "complain":
            post.complain(*self.inbound, return_path, raw)

    def ask(self, target: str, moment: str | None, agent: str, data: bytes | None = None,
            headers: dict[str, str] | None = None) -> str:
        """One request; returns where it was sent on to, or nothing."""
        request = urllib.request.Request(target, data, {"User-Agent": agent, **(headers or {})})
        if moment:
            request.add_header("X-Village-Moment", moment)
            request.add_header("X-Village-Signature", signing.sign_text(self.secret, "moment", moment))
        try:
            with _opener.open(request, timeout=20) as answer:
                answer.read()
                return ""
        except urllib.error.HTTPError as answer:
            return answer.headers.get("Location") or ""

    def _visit(self, target: str, moment: str | None) -> None:
        """A page of the village's own website, whose script tells what is seen."""
        visitor = urllib.parse.parse_qs(urllib.parse.urlsplit(target).query).get("mr", [""])[0]
        if visitor and target.startswith(self.site):
            self._tell(target, visitor, "page_viewed", f'{{"page": "{urllib.parse.urlsplit(target).path}"}}', moment)

    def _buy(self, raw: bytes, amount: float, moment: str | None) -> None:
        body = email.message_from_bytes(raw, policy=email.policy.default).get_body(("html",))
        links = post.LINK.findall(body.get_content()) if body else []
        if not links:
            return
        # Coming back to the ticket page needs the sign that the first click left behind.
        target = self.ask(links[0], moment, PROGRAM)
        visitor = urllib.parse.parse_qs(urllib.parse.urlsplit(target).query).get("mr", [""])[0]
        if visitor:
            self._tell(self.site, visitor, "ticket_bought", f'{{"amount": {amount}}}', moment)

    def _tell(self, page: str, visitor: str, event: str, details: str, moment: str | None) -> None:
        parts = urllib.parse.urlsplit(page)
        data = f'{{"key": "{self.site_key}", "visitor": "{visitor}", "event": "{event}", "details": {details}}}'
        self.ask(f"{self.app_url}/site/events", moment, READER, data.encode(),
                 {"Origin": f"{parts.scheme}://{parts.netloc}", "Content-Type": "application/json"})
