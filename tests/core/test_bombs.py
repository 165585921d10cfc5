"""Files that are small and unpack to something very large are told apart before they are
unpacked."""

import io
import time
import zipfile

import openpyxl
import pytest

from meadowrun.core import table_file as tf
from meadowrun.tracking.inbound import read_report

SHEET = (
    '<?xml version="1.0"?><worksheet '
    'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">'
    '<dimension ref="{size}"/><sheetData>{rows}'
    "</sheetData></worksheet>"
)


def workbook(rows, size="A1:B2", more=()):
    """A workbook whose only sheet is of this XML; `more` are (name, bytes) of further parts."""
    plain = io.BytesIO()
    openpyxl.Workbook().save(plain)
    out = io.BytesIO()
    with zipfile.ZipFile(plain) as made, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as to:
        for name in made.namelist():
            to.writestr(
                name,
                SHEET.format(size=size, rows=rows)
                if name.endswith("sheet1.xml")
                else made.read(name),
            )
        for name, content in more:
            to.writestr(name, content)
    return out.getvalue()


def row(number, cells):
    return (
        f'<row r="{number}">'
        + "".join(f'<c r="{ref}" t="str"><v>{text}</v></c>' for ref, text in cells)
        + "</row>"
    )


GOOD = row(1, [("A1", "Email"), ("B1", "Town")]) + row(
    2, [("A2", "ann@post.example"), ("B2", "Tarn")]
)


def read(content):
    reading = tf.recognise(content)
    return list(tf.rows(content, reading))


def test_what_a_sheet_says_of_its_size_is_not_believed():
    began = time.process_time()
    assert read(workbook(GOOD, "A1:XFD1048576")) == [
        (1, ["Email", "Town"]),
        (2, ["ann@post.example", "Tarn"]),
    ]
    assert time.process_time() - began < 5


@pytest.mark.parametrize(
    "content",
    [
        workbook(GOOD, more=[("xl/media/a.bin", b"\0" * 60_000_000)]),
        workbook(GOOD + "<row/>" * 4_000_000),
        workbook(GOOD, more=[(f"xl/media/{n}.bin", b"") for n in range(2_100)]),
    ],
)
def test_what_unpacks_to_far_more_than_it_holds_is_refused(content):
    assert len(content) < 400_000
    began = time.process_time()
    with pytest.raises(tf.FileProblem, match="unpacks to far more"):
        tf.recognise(content)
    assert time.process_time() - began < 1


def test_more_columns_than_any_table_has():
    with pytest.raises(tf.FileProblem, match="16,384 cells"):
        read(workbook(GOOD + row(3, [("XFD3", "x")])))


def test_what_is_no_workbook_at_all():
    for content in (b"PK\x03\x04", b"PK\x03\x04" + b"\0" * 1000):
        with pytest.raises(tf.FileProblem, match="cannot be opened"):
            tf.recognise(content)


def test_a_report_within_reports_is_not_read():
    deep = b""
    for number in range(400):
        deep += b'Content-Type: multipart/mixed; boundary="b%d"\r\n\r\n--b%d\r\n' % (number, number)
    began = time.process_time()
    assert read_report(deep) is None and time.process_time() - began < 0.5
