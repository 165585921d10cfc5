import csv
import io

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core import formulas
from meadowrun.core import people_file as pf
from meadowrun.core import table_file as tf
from meadowrun.core.audience.fields import FieldSpec
from meadowrun.core.people_columns import guess, guess_type

OWN = {
    "tier": FieldSpec("tier", "tier", "choice", ("Single", "Patron")),
    "since": FieldSpec("since", "member since", "date"),
}
HEADER = "Vorname;Nachname;E-Mail-Adresse;Tier;Member since\r\n"


def read(content, plan, columns):
    return list(pf.read(content, tf.recognise(content), plan, OWN, columns))


@pytest.mark.parametrize(
    ("content", "encoding", "separator"),
    [
        ("name,email\nZoë,z@a.example\n".encode(), "utf-8", ","),
        ("name;email\nZoë;z@a.example\n".encode("cp1252"), "cp1252", ";"),
        ("name\temail\nZoë\tz@a.example\n".encode("utf-16"), "utf-16", "\t"),
        ("\ufeffname|email\nZoë|z@a.example\n".encode(), "utf-8-sig", "|"),
        (b'name,email,note\n"Rook, Ann",a@a.example,"one; two; three; four"\n', "utf-8", ","),
    ],
)
def test_encodings_and_separators_are_recognised(content, encoding, separator):
    reading = tf.recognise(content)
    assert (reading.encoding, reading.separator) == (encoding, separator)
    assert tf.header(content, reading)[0][:2] == ["name", "email"]


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (b"", "empty"),
        (b"   \n", "empty"),
        (b"email\n", "only its header"),
        (b"a@b.example,Ann\nc@d.example,Ben\n", "names of the"),
        (b"PK\x03\x04rubbish", "cannot be opened"),
        (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1xx", "old format"),
        (b"a\0b\0c\0d\0e\0f\0g\0", "not a text"),
        (b"\x89PNG\r\n\x1a\n\0\0", "not a text"),
        (b'email\n"' + b"x" * 200_000 + b"\n", "cannot be read"),
        (",".join(f"c{i}" for i in range(2000)).encode() + b"\n1\n", "2,000 columns"),
    ],
)
def test_files_that_cannot_be_used_say_why(content, why):
    with pytest.raises(tf.FileProblem, match=why):
        tf.header(content, tf.recognise(content))


def test_columns_are_guessed_from_names_and_cells():
    columns = ["Vorname", "Nachname", "Kontakt", "Tier", "Member since", "Shoe size"]
    sample = [["Ann", "Rook", "ann@a.example", "Patron", "", "38"]]
    assert guess(columns, sample, list(OWN.values())) == (
        "first_name",
        "last_name",
        "email",
        "own:tier",
        "own:since",
        "",
    )


def test_columns_of_other_names_are_guessed_by_what_stands_in_them():
    """By choices that only one field has, and by names that say the same as its label."""
    own = [*OWN.values(), FieldSpec("born", "birthday", "date")]
    columns = ["E-Mail", "Stufe", "Geburtsdatum", "Mitglied seit", "Note"]
    sample = [
        ["ann@a.example", "single", "3.4.1971", "1.1.2020", "Single"],
        ["ben@a.example", "PATRON", "4.4.1971", "", "Single"],
    ]
    assert guess(columns, sample, own) == (
        "email",
        "own:tier",
        "own:born",
        "own:since",
        "",
    )
    # One value says too little, and where two fields have the choices none of them is chosen.
    assert guess(["E-Mail", "Stufe"], [["a@a.example", "Patron"]], own)[1] == ""
    twin = FieldSpec("level", "level", "choice", ("Patron", "Single", "None"))
    assert guess(columns, sample, [*own, twin])[1] == ""


def test_a_column_of_yes_and_no_called_newsletter_is_who_agreed():
    """Not where something else stands in it, and not beside a column that says it in full."""
    columns, ann = ["E-Mail", "Newsletter"], "ann@a.example"
    said = [[ann, "ja"], ["ben@a.example", "nein"], ["cy@a.example", ""]]
    assert guess(columns, said, [])[1] == "agreed:email"
    assert guess(columns, [*said, ["dot@a.example", "monthly"]], [])[1] == ""
    assert guess(columns, [[ann, ""]], [])[1] == ""
    both = ["E-Mail", "Newsletter", "Email consent"]
    assert guess(both, [[ann, "ja", "yes"]], []) == ("email", "", "agreed:email")


def test_a_row_that_repeats_somebody_tells_what_it_says_no_to():
    content = b"email,agreed\nann@a.example,yes\nANN@a.example,no\nben@a.example,no\n"
    plan = pf.Plan(("email", "agreed:email"), consent="ticked", channels=())
    first, again, other = read(content, plan, ["email", "agreed"])
    assert first.said == {"email": True} and other.said == {"email": False}
    assert (again.who, again.declined) == ("ann@a.example", ("email",))


def test_a_refused_row_tells_who_it_is_and_what_it_says_no_to():
    """Also where the no stands behind the cell that is wrong; an address that is none is nobody."""
    content = (
        b"id,email,phone,agreed,sms\nA1,ann@a.example,12,no,yes\na1,ann@a.example,,no,\n"
        b"B2,not an address,,no,no\n,cy@a.example,,no,\nD4,dot@a.example,,perhaps,no\n"
    )
    columns = ["id", "email", "phone", "agreed", "sms"]
    targets = ("reference", "email", "phone", "agreed:email", "agreed:sms")
    plan = pf.Plan(targets, identify="reference", consent="ticked", channels=())
    found = list(read(content, plan, columns))
    assert [(one.who, one.declined) for one in found if isinstance(one, pf.Refusal)] == [
        ("A1", ("email",)),
        ("B2", ("email", "sms")),
        ("", ("email",)),
        ("D4", ("sms",)),
    ]
    # The address is cleaned as that of a row which is taken.
    content = b"email,phone,agreed\n<mailto:Eve@a.example>;,12,no\n mailto:fay@a.example,12,no\n"
    plan = pf.Plan(("email", "phone", "agreed:email"), consent="ticked", channels=())
    who = [one.who for one in read(content, plan, ["email", "phone", "agreed"])]
    assert who == ["eve@a.example", "fay@a.example"]
    # Reference numbers are told apart by capital letters, as those of contacts are.
    assert [one.standard["reference"] for one in found if isinstance(one, pf.Row)] == ["a1"]


def test_a_stray_sign_that_no_text_can_hold_is_left_out():
    content = b"email,name\nann@a.example,An\0n\n" + b"".join(
        b"p%d@a.example,P\n" % n for n in range(40)
    )
    columns, sample = tf.header(content, tf.recognise(content))
    assert (
        columns == ["email", "name"] and sample[0] == ["ann@a.example", "Ann"] and len(sample) == 8
    )


def test_each_target_is_guessed_once():
    assert guess(["Email", "E-mail", "Name"], [["a@a.example", "b@a.example", "x"]], []) == (
        "email",
        "",
        "last_name",
    )


@pytest.mark.parametrize(
    ("cells", "kind"),
    [
        (["1", "2,5"], "number"),
        (["1.2.2024", ""], "date"),
        (["ja", "nein"], "yes_no"),
        (["a", "1"], "text"),
        ([], "text"),
    ],
)
def test_types_of_new_columns(cells, kind):
    assert guess_type(cells) == kind


def test_twelve_kinds_of_dirt():
    body = HEADER + "\r\n".join(
        [
            "Ann;Rook;ANN@a.example;patron;1.2.2024",  # 2 fine, in odd case
            "",  # 3 blank
            "Ben;Marsh;ben.a.example;Single;",  # 4 no at-sign
            "Cleo;Vane;ann@A.example ;Single;",  # 5 the same address again
            ";;;;",  # 6 only separators
            "Dov;Quist;;Single;",  # 7 no address
            "Edda;Kestrel;edda@a.example;Emperor;",  # 8 no such choice
            "Finn;Jessop;finn@a.example;Single;31.2.2024",  # 9 no such day
            "Gre\tta;  Ingram ;<greta@a.example>;;",  # 10 stray signs, mended
            "Hamza;Zeller;hamza@a.example;Single;;;extra",  # 11 too many cells
            "Ines;Ibáñez;ines@a.example",  # 12 cells missing at the end: fine
            "Jonah;Rook;mailto:jonah@a.example;single;2024-02-29",
        ]
    )  # 13 fine
    content = body.encode("cp1252")
    columns = ["Vorname", "Nachname", "E-Mail-Adresse", "Tier", "Member since"]
    plan = pf.Plan(("first_name", "last_name", "email", "own:tier", "own:since"))
    rows = read(content, plan, columns)
    good = {r.number: r for r in rows if isinstance(r, pf.Row)}
    bad = {r.number: (r.column, r.reason) for r in rows if isinstance(r, pf.Refusal)}
    assert sorted(good) == [2, 10, 12, 13]
    assert good[2].own == {"tier": "Patron", "since": "2024-02-01"}
    assert good[10].standard == {
        "first_name": "Gre ta",
        "last_name": "Ingram",
        "email": "greta@a.example",
    }
    assert good[13].standard["email"] == "jonah@a.example"
    assert set(bad) == {4, 5, 7, 8, 9, 11}
    assert bad[4] == ("E-Mail-Adresse", "“ben.a.example” has no @")
    assert bad[5][1] == "the same address is in row 2 already"
    assert bad[7][1] == "has no address"
    assert bad[8] == ("Tier", "“Emperor” is not one of Single or Patron")
    assert bad[9] == ("Member since", "“31.2.2024” is not a date")
    assert "7 cells where the header has 5" in bad[11][1]


def test_row_numbers_count_lines_inside_quotes():
    content = b'name,email\n"two\nlines",a@a.example\nx,bad\n'
    rows = read(content, pf.Plan(("first_name", "email")), ["name", "email"])
    assert [(type(r).__name__, r.number) for r in rows] == [("Row", 2), ("Refusal", 4)]


def test_a_spreadsheet_with_types_and_formulas():
    import datetime as dt

    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["Email", "Member since", "Tier"])
    sheet.append(["ann@a.example", dt.datetime(2024, 2, 1), "Patron"])  # noqa: DTZ001
    sheet.append([None, None, None])
    sheet.append(["ben@a.example", "=TODAY()", "Single"])
    out = io.BytesIO()
    book.save(out)
    rows = read(
        out.getvalue(),
        pf.Plan(("email", "own:since", "own:tier")),
        ["Email", "Member since", "Tier"],
    )
    assert [(r.number, r.own) for r in rows] == [
        (2, {"since": "2024-02-01", "tier": "Patron"}),
        (4, {"tier": "Single"}),
    ]


@pytest.mark.parametrize(
    ("targets", "identify", "why"),
    [
        (("first_name", ""), "email", "No column is matched to the address"),
        (("email", "email"), "email", "Two columns"),
        (("email",), "email", "columns have changed"),
    ],
)
def test_a_plan_that_cannot_work(targets, identify, why):
    with pytest.raises(tf.FileProblem, match=why):
        pf.check(pf.Plan(targets, identify), ["a", "b"])


@pytest.mark.parametrize(
    ("cell", "written"),
    [
        ("=1+1", "'=1+1"),
        ("=cmd|' /C calc'!A0", "'=cmd|' /C calc'!A0"),
        ("@SUM(A1)", "'@SUM(A1)"),
        ("-x", "'-x"),
        ("+x", "'+x"),
        ("-2+3+cmd|' /C calc'!A0", "'-2+3+cmd|' /C calc'!A0"),
        ("\tx", "'\tx"),
        ("\rx", "'\rx"),
        ("-12.5", "-12.5"),
        ("+44 (0)7700 900101", "+44 (0)7700 900101"),
        ("+44-7700-900101", "+44-7700-900101"),
        ("O'Neill", "O'Neill"),
        ("", ""),
        ("a=b", "a=b"),
    ],
)
def test_no_cell_of_ours_is_run_by_a_spreadsheet(cell, written):
    assert formulas.harmless(cell) == written


@given(st.text(alphabet="'=+-@\t\rx1 \n\",;", max_size=8))
def test_a_cell_comes_back_from_a_file_of_ours_as_it_was(cell):
    out = io.StringIO(newline="")
    csv.writer(out).writerows([["Email", "Note"], ["a@b.example", formulas.harmless(cell)]])
    content = out.getvalue().encode()
    assert [cells for _, cells in tf.rows(content, tf.Reading("csv", "utf-8", ","))][1] == [
        "a@b.example",
        cell,
    ]


def test_what_is_no_address_is_said_as_it_stands_in_the_file():
    text = b"email,first name\nnot an address,Bo\nann @post.example,Ann\n"
    reading = tf.recognise(text)
    columns, _ = tf.header(text, reading)
    plan = pf.Plan(targets=("email", "first_name"))
    refused, ann = pf.read(text, reading, plan, {}, columns)
    assert refused.reason == "“not an address” has no @"
    assert ann.standard["email"] == "ann@post.example"
