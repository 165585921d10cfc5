"""Distils the open data set on what HTML and CSS mail readers support into what the reading side needs.

    python assets/readers.py node_modules/caniemail/data/caniemail.json > src/meadowrun/core/content/data/readers.json

The data set is under the MIT licence (see NOTICE). Kept is, for twenty readers, what each takes away.
"""

import json
import pathlib
import re
import sys

READERS = {
    "apple-mail.macos": "Apple Mail, macOS",
    "apple-mail.ios": "Apple Mail, iOS",
    "gmail.desktop-webmail": "Gmail, web",
    "gmail.ios": "Gmail, iOS",
    "gmail.android": "Gmail, Android",
    "outlook.windows": "Outlook, Windows",
    "outlook.macos": "Outlook, macOS",
    "outlook.outlook-com": "Outlook, web",
    "outlook.ios": "Outlook, iOS",
    "outlook.android": "Outlook, Android",
    "yahoo.desktop-webmail": "Yahoo! Mail, web",
    "yahoo.android": "Yahoo! Mail, Android",
    "aol.desktop-webmail": "AOL, web",
    "samsung-email.android": "Samsung Email",
    "thunderbird.macos": "Thunderbird",
    "protonmail.desktop-webmail": "Proton Mail, web",
    "fastmail.desktop-webmail": "Fastmail, web",
    "gmx.desktop-webmail": "GMX, web",
    "orange.desktop-webmail": "Orange, web",
    "laposte.desktop-webmail": "LaPoste.net, web",
}


def newest(versions):
    """The answer for the newest version tested: y, a (partly), n or u."""
    return (
        str(versions[max(versions, key=lambda v: [int(n) for n in re.findall(r"\d+", v)] or [0])])[
            0
        ]
        if versions
        else "u"
    )


def feature(item):
    """What a style sheet or a page would hold: ("css", "border-radius"), ("value", "display:flex"), ("at", "media") …"""
    # A title with brackets is about one use of a feature, as in “@media (prefers-color-scheme)”, not about all of it.
    title = item["title"].strip()
    if item["category"] == "css":
        if re.fullmatch(r"@[a-z-]+", title):
            return "at", title[1:]
        if re.fullmatch(r"[a-z-]+", title) and "-" + title not in ("-left", "-right"):
            return "css", title
        if found := re.fullmatch(r"([a-z-]+)\s*:\s*([a-z-]+)", title):
            return "value", f"{found[1]}:{found[2]}"
        if re.fullmatch(r":{1,2}[a-z-]+", title):
            return "pseudo", title
    if item["category"] == "html" and (found := re.fullmatch(r"<([a-z0-9]+)>(?: element)?", title)):
        return "tag", found[1]
    return None


def main():
    data = json.loads(pathlib.Path(sys.argv[1]).read_text(encoding="utf-8"))
    made = {}
    for key, name in READERS.items():
        family, platform = key.split(".")
        lost = {kind: [] for kind in ("css", "value", "at", "pseudo", "tag")}
        for item in data["data"]:
            found = feature(item)
            if found and newest(item["stats"].get(family, {}).get(platform, {})) == "n":
                lost[found[0]].append(found[1])
        made[key] = {
            "name": name,
            "lost": {kind: sorted(set(items)) for kind, items in lost.items() if items},
        }
    json.dump(
        {"as_of": data["last_update_date"][:10], "readers": made},
        sys.stdout,
        ensure_ascii=False,
        indent=1,
    )


main()
