"""Templates are compiled once for all processes; whatever happens to what is kept, pages come."""

import os
import pathlib

import jinja2
import pytest

from meadowrun.shell import compiling
from meadowrun.shell.app import create_app


@pytest.fixture
def kept(tmp_path, monkeypatch):
    """A folder of the test's own for what is compiled."""
    monkeypatch.setattr(compiling.Kept, "_get_default_cache_dir", lambda self: str(tmp_path))
    return tmp_path


@pytest.fixture
def compiled(monkeypatch):
    """The names of the templates that are compiled, as they are."""
    found = []
    usual = jinja2.Environment.compile

    def compile(self, source, name=None, *more, **also):
        found.append(name)
        return usual(self, source, name, *more, **also)

    monkeypatch.setattr(jinja2.Environment, "compile", compile)
    return found


def test_what_one_process_compiled_the_next_one_reads(
    settings, database, kept, compiled, monkeypatch
):
    """Of the templates of the frame, which hold for all."""
    folder = pathlib.Path(compiling.__file__).parent / "templates"

    def framed():
        app = create_app(settings, database)
        app.jinja_loader = app.jinja_env.loader = jinja2.FileSystemLoader(folder)
        return app

    compiling.compile_all(framed())
    assert "base.html" in compiled and len(compiled) > 10
    assert len(set(compiled)) == len(compiled), "each once"
    compiled.clear()
    app = framed()
    compiling.compile_all(app)
    assert compiled == []
    assert app.test_client().get("/sign-in").status_code == 200


def test_another_text_or_another_reader_is_compiled_anew(kept, compiled, monkeypatch):
    def made(text):
        env = jinja2.Environment(
            loader=jinja2.DictLoader({"a.html": text}), bytecode_cache=compiling.Kept()
        )
        return env.get_template("a.html").render()

    assert made("one") == made("one") == "one" and compiled == ["a.html"]
    assert made("two") == "two" and len(compiled) == 2
    monkeypatch.setattr(compiling, "_READ_BY", "the next version")
    assert made("two") == "two" and len(compiled) == 3


@pytest.mark.parametrize("rubbish", [b"", b"j2\x05", b"\0" * 500])
def test_rubbish_in_the_folder_is_no_template(settings, database, kept, rubbish):
    assert create_app(settings, database).test_client().get("/sign-in").status_code == 200
    assert list(kept.iterdir())
    for path in kept.iterdir():
        path.write_bytes(rubbish)
    page = create_app(settings, database).test_client().get("/sign-in")
    assert page.status_code == 200 and "Sign in" in page.get_data(as_text=True)


def test_without_a_folder_pages_come_all_the_same(settings, database, kept):
    app = create_app(settings, database)
    for path in kept.iterdir():
        path.unlink()
    os.rmdir(kept)
    assert app.test_client().get("/sign-in").status_code == 200


def test_a_folder_of_somebody_else_is_not_used(settings, database, monkeypatch):
    def refused(self):
        raise RuntimeError("not safe")

    monkeypatch.setattr(compiling.Kept, "_get_default_cache_dir", refused)
    app = create_app(settings, database)
    assert app.jinja_env.bytecode_cache is None
    assert app.test_client().get("/sign-in").status_code == 200
