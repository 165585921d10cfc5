"""Pages in the language of whoever reads them.

English is what the source is written in. Another language is a folder under `languages/` with its
catalogue; the reader's browser says which of them it wants. Templates are marked when they are
loaded (units.py), Python marks its texts with `core.language.Wording`.
"""

import functools
import pathlib

import flask
import flask_babel
import jinja2.ext

from meadowrun.core import language
from meadowrun.shell.language import formats, units

#: Where the catalogues of other languages are: LOCALE/LC_MESSAGES/meadowrun.mo.
FOLDER = pathlib.Path(__file__).parents[2] / "languages"


class Marking(jinja2.ext.Extension):
    """Puts calls around the texts of a template of pages before Jinja reads it."""

    def preprocess(self, source: str, name: str | None, filename: str | None = None) -> str:
        """The marked source of a page; anything else as it is."""
        return units.marked(source) if name and name.endswith(".html") else source


def install(app: flask.Flask) -> None:
    """Makes an application speak the languages whose catalogues are there."""
    spoken = ["en", *sorted(p.parent.parent.name for p in FOLDER.glob("*/LC_MESSAGES/*.mo"))]

    def wanted() -> str:
        return flask.request.accept_languages.best_match(spoken, default="en") or "en"

    def locale() -> str:
        asked = [one for one, _ in flask.request.accept_languages]
        return formats.chosen(wanted(), asked)

    flask_babel.Babel(
        app,
        default_locale="en",
        default_domain="meadowrun",
        default_translation_directories=str(FOLDER),
        configure_jinja=False,
        locale_selector=wanted,
    )
    app.jinja_env.add_extension(Marking)
    app.jinja_env.globals.update(
        wording=language.Wording,
        in_markup=language.in_markup,
        in_attribute=language.in_attribute,
        language_of_page=wanted,
        locale_of_page=lambda: locale().replace("_", "-"),
        wordings_of_scripts=_of_scripts,
    )

    @app.before_request
    def read() -> None:
        other = wanted() != "en"
        language.read_by(flask_babel.get_translations() if other else None, formats.of(locale()))

    @app.teardown_request
    def done(problem: BaseException | None) -> None:
        # What this thread does next is for nobody in particular.
        language.read_by(None)


@functools.cache
def _asked_by_scripts() -> tuple[str, ...]:
    """The messages of all scripts of pages."""
    scripts = sorted((pathlib.Path(__file__).parents[1] / "static").glob("*.js"))
    return tuple(unit.text for path in scripts for unit in units.of_script(path.read_text()))


def _of_scripts() -> dict[str, str]:
    """What scripts say, in the language of whoever reads the page."""
    found = flask_babel.get_translations()
    return {message: found.gettext(message) for message in _asked_by_scripts()}
