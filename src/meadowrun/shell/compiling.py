"""Templates compiled once for all processes and starts of this machine.

Compiling the templates of a page takes longer than everything else of its first opening. What was
compiled is kept in a folder that only this account can use, under the text of the template and the
version of what reads it.
"""

import hashlib
import pathlib

import flask
import jinja2

from meadowrun.base.logs import log
from meadowrun.shell import language

#: What a compiled template goes by besides its own text: the code that marks it.
_READ_BY = hashlib.sha256(
    b"".join(
        path.read_bytes() for path in sorted(pathlib.Path(language.__file__).parent.glob("*.py"))
    )
).hexdigest()


class Kept(jinja2.FileSystemBytecodeCache):
    """Compiled templates in a folder of this account's own, below the system's temporary ones."""

    def get_cache_key(self, name: str, filename: str | None = None) -> str:
        """A name for what a template was compiled to."""
        return super().get_cache_key(f"{name}|{_READ_BY}", filename)

    def dump_bytecode(self, bucket: jinja2.bccache.Bucket) -> None:
        """Keeps what was compiled; a folder that is full or gone keeps nothing."""
        try:
            super().dump_bytecode(bucket)
        except OSError as problem:
            log.warning("a compiled template was not kept", problem=str(problem))


def install(app: flask.Flask) -> None:
    """Makes an application keep what it compiles, where there is a folder that is safe to use."""
    try:
        app.jinja_env.bytecode_cache = Kept()
    except (OSError, RuntimeError) as problem:
        log.warning("compiled templates are not kept", problem=str(problem))


def compile_all(app: flask.Flask) -> None:
    """Compiles every template that is not kept yet."""
    for name in app.jinja_env.list_templates(extensions=["html"]):
        try:
            app.jinja_env.get_template(name)
        except jinja2.TemplateError as problem:
            log.error("a template cannot be compiled", template=name, problem=str(problem))
