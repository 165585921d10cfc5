"""What tests of pages share."""

import re


def sign_in(client, name="admin", password="a long password"):
    return client.post("/sign-in", data={"email": f"{name}@farrowhill.example", "password": password, "to": "/people"})


def words(html):
    """What a page says, without its marks, in one line."""
    text = re.sub(r"<(script|style|svg).*?</\1>", " ", html, flags=re.DOTALL)
    return " ".join(re.sub(r"<[^>]+>", " ", text).replace("&amp;", "&").replace("&#39;", "'").split())
