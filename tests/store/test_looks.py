"""Whatever class a template names is there: in the style sheet, or looked for by a script."""

import pathlib
import re

import meadowrun

SOURCE = pathlib.Path(meadowrun.__file__).parent
STATIC = SOURCE / "shell" / "static"


def classes_of(text):
    """The whole names of classes in a template; what it puts together while it is drawn is left
    out."""
    for found in re.findall(r'class="([^"]*)"', re.sub(r"\{#.*?#\}", "", text, flags=re.DOTALL)):
        yield from re.findall(
            r"(?:^|(?<=\s))[a-z][\w-]*[a-z0-9](?=\s|$)", re.sub(r"\{[%{].*?[%}]\}", "{}", found)
        )


def test_every_class_of_a_template_is_known():
    known = set(re.findall(r"\.([A-Za-z][\w-]*)", (STATIC / "meadowrun.css").read_text("utf-8")))
    scripts = "".join(path.read_text("utf-8") for path in STATIC.glob("*.js"))
    unknown = {
        (name, path.name)
        for path in SOURCE.rglob("*.html")
        if "village" not in path.parts
        for name in classes_of(path.read_text("utf-8"))
        if name not in known and name not in scripts
    }
    assert unknown == set()
