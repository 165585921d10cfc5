"""Tables to look things up in, read from CSV."""

import pytest

from meadowrun.core.content.tables import MOST_ROWS, TableProblem, read_table


def test_rows_by_what_they_are_looked_up_by():
    read = read_table(b"Town ;x,Opening Hours\r\nFarrow,9 to 5\r\n\r\n", "")
    assert read.columns == ["town_x", "opening_hours"]
    assert read.by == "town_x"
    assert read.rows == {"farrow": {"town_x": "Farrow", "opening_hours": "9 to 5"}}


def test_another_column_and_letters_of_other_scripts():
    read = read_table("\ufeffcode,town\nA1,Straße\nA2,Łódź\n".encode(), " Town ")
    assert read.by == "town"
    assert read.rows["strasse"]["code"] == "A1"
    assert read.rows["łódź"]["code"] == "A2"


@pytest.mark.parametrize(
    ("content", "key_column", "says", "place"),
    [
        (b"", "", "must have a row of names and 1 to 20,000", "file"),
        (b"town\n", "", "must have a row of names", "file"),
        (b"town\n" + b"x\n" * MOST_ROWS, "", "must have a row of names", "file"),
        (b"\xff\xfe", "", "not CSV in UTF-8", "file"),
        (b"town,Town\na,b\n", "", "The column “Town” has no usable name", "file"),
        (b"town,1st\na,b\n", "", "The column “1st” has no usable name", "file"),
        (b"town,price\na,1\n", "city", "no column “city”; there are town, price.", "key_column"),
        (b"town,price\na,1\nb\n", "", "Row 3 has 1 cells, the first row 2.", "file"),
        (b"town,price\na,1\n A ,2\n", "", "Row 3: “A” is there twice in the column “town”", "file"),
    ],
)
def test_what_is_wrong_is_named_with_its_place(content, key_column, says, place):
    with pytest.raises(TableProblem) as problem:
        read_table(content, key_column)
    assert says in str(problem.value)
    assert problem.value.place == place
