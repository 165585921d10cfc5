"""The first path, as a marketer walks it: from two dirty files to a measured send, every number
right."""

import datetime as dt
import io
import time

import openpyxl
import sqlalchemy as sa
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page

CSV = (
    "Vorname;Nachname;E-Mail;Ort;Ticket count;Joined\r\n"
    # a separator in quotes, an umlaut
    'Zoë;"Rook; the younger";zoe@hill.example;Farrow;3;1.2.2024\r\n'
    "\r\n"  # a blank line
    "Bjørn;Müller;BJORN@hill.example;Tarnside;2;2024-03-05\r\n"  # capitals in the address
    "Bjørn;Müller;bjorn@hill.example;Tarnside;2;\r\n"  # 5 the same address again
    "Cleo;Marsh;cleo.hill.example;Farrow;1;\r\n"  # 6 no at-sign
    ";;;;;\r\n"  # only separators
    "Dov;Quist;;Farrow;1;\r\n"  # 8 no address
    "Edda;Vane;edda@hill.example;Farrow;many;\r\n"  # 9 no number
    "Finn;Jessop;finn@hill.example;Farrow;5;31.2.2024\r\n"  # 10 no such day
    "  Greta ;Ingram; <greta@hill.example> ;Farrow;4;5 May 2024\r\n"  # spaces and brackets, mended
    "Hamza;Zeller;hamza@gone.example;Farrow;7;\r\n"  # lives nowhere: will bounce
    ";Nameless;anon@hill.example;Farrow;9;\r\n"  # no first name: reads the fallback
    "Ines;Kestrel;ines@hill.example;Farrow;6;1.1.2020;surplus\r\n"  # 14 too many cells
    "Jonah;Rook;mailto:jonah@hill.example;Upper Tarn;1;1.1.2021\r\n"
)  # a pasted link, mended


def spreadsheet():
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["Email", "First name", "Last name", "Town", "Ticket count", "Joined"])
    sheet.append(["kofi@hill.example", "Kofi", "Ådal, Jr", "Farrow", 8, dt.date(2023, 7, 9)])
    sheet.append([None] * 6)
    sheet.append(
        ["ZOE@hill.example", "Zoe", "Rook", "Elsewhere", 1, None]
    )  # known already from the other file
    sheet.append(["not an address", "Bad", "Row", "Farrow", 1, None])
    sheet.append(["lina@hill.example", "Lina", "Őri", "Farrow", 2.0, dt.date(2025, 1, 2)])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def bring_in(page, path, evidence):
    page.open("/imports/new")
    page.find("#file").send_keys(str(path))
    page.press("Continue")
    page.says("Columns to match")
    if page.all("input[name=agreed]:not(:checked)"):
        page.click("input[name=agreed]")
    page.type("#evidence", evidence)


def finish(page):
    page.press("Preview import")
    page.says("What would happen", seconds=30)


def numbers(page):
    """The table of what would happen, by its words."""
    cells = [
        [cell.text for cell in row.find_elements("css selector", "td")]
        for row in page.all("table tbody tr")
    ]
    return {row[0]: int(row[1].replace(",", "")) for row in cells if len(row) == 3}


def counts(page):
    return {
        e.get_attribute("data-count"): int(e.text.replace(",", ""))
        for e in page.all("[data-count]")
    }


def test_from_two_files_to_a_measured_send(page: Page, house, tmp_path):
    csv_file, sheet_file = tmp_path / "open-night.csv", tmp_path / "till.xlsx"
    csv_file.write_bytes(CSV.encode("cp1252", errors="strict"))
    sheet_file.write_bytes(spreadsheet())

    # The CSV: encoding, separator and columns are recognised; two columns become new fields.
    bring_in(page, csv_file, "signed the card at the open night")
    page.says("text in CP1252, cells separated by semicolons")
    for index, value in ((0, "first_name"), (1, "last_name"), (2, "email"), (3, "town")):
        assert page.find(f"select[name=target{index}]").get_attribute("value") == value
    for index, kind in ((4, "number"), (5, "date")):
        page.click(f"select[name=target{index}] option[value=new]")
        page.click(f"select[name=type{index}] option[value={kind}]")
    page.click("input[name=as_list]")
    page.type("input[name=list_name]", "Open night people")
    page.click("select[name=bad_cells] option[value=refuse]")
    finish(page)
    assert numbers(page) == {
        "Rows in the file": 12,
        "New people": 6,
        "Known, something changes": 0,
        "Known, nothing changes": 0,
        "Agreed to email": 6,
        "Rejected": 6,
        "Opted out or suppressed, stay so": 0,
    }
    for reason in (
        "the same address is in row 4 already",
        "“cleo.hill.example” has no @",
        "has no address",
        "“many” is not a number",
        "“31.2.2024” is not a date",
        "7 cells where the header has 6",
    ):
        page.says(reason)
    page.press("Import 6 people")
    page.says("What happened", seconds=30)

    # The spreadsheet: one is known and only his blanks are filled, one row is refused.
    bring_in(page, sheet_file, "asked at the till")
    finish(page)
    assert (
        numbers(page)["New people"] == 2
        and numbers(page)["Rejected"] == 1
        and numbers(page)["Known, nothing changes"] == 1
    )
    page.press("Import 3 people")
    page.says("What happened", seconds=30)

    # A segment of them, line by line.
    page.open("/segments/new")
    page.press("Add condition")
    page.type(".pop [data-narrow]", "Ticket count")
    # What the words may mean as a sentence may come to stand above it meanwhile; Enter would take
    # that.
    page.press("Ticket count", ".pop .choices")
    page.says("whose Ticket count is at least 1", "[data-part=sieve]")
    page.click(".word[data-slot=value]")
    page.type("#v", "2")
    page.find("#v").send_keys(Keys.ENTER)
    page.says("is at least 2", "[data-part=sieve]")
    page.press("Exclude people")
    page.type(".pop [data-narrow]", "email address")
    page.find(".pop [data-narrow]").send_keys(Keys.ENTER)
    page.says("but not anyone whose email address", "[data-part=sieve]")
    page.all(".word[data-slot=op]")[-1].click()
    page.press("begins with", ".pop")
    page.wait(lambda: page.all(".word[data-slot=value]")[-1].text == "“…”")
    page.all(".word[data-slot=value]")[-1].click()
    page.type("#v", "bjorn@")
    page.find("#v").send_keys(Keys.ENTER)
    page.says("“bjorn@”", "[data-part=sieve]")
    with house.database.session() as session:
        by_hand = session.execute(
            sa.text(
                "SELECT count(*) FROM contacts WHERE (attributes->>'ticket_count')::numeric >= 2 "
                "AND email NOT ILIKE 'bjorn@%'"
            )
        ).scalar()
    assert by_hand == 6  # Zoë, Greta, Hamza, the nameless, Kofi, Lina
    page.wait(lambda: page.text("[data-size]") == "6")
    page.click("#save")
    page.type("#sn", "Came twice or more")
    page.find("#sn").send_keys(Keys.ENTER)
    page.says("Saved: Came twice or more, 6 people now.")

    # A message that reads as if meant for one person.
    page.open("/messages/new")
    page.type("#name", "Thanks to regulars")
    page.press("Start writing")
    page.find("[data-slot=subject]").send_keys("A night for ")
    page.find("[data-slot=subject]").send_keys("@")
    page.type(".pop [data-narrow]", "first name")
    page.type(".pop [name=fallback]", "you")
    page.press("first name", ".pop")
    page.wait(lambda: page.all("[data-slot=subject] [data-fill]"))
    page.find("[data-slot=preheader]").send_keys("Thank you for coming again")
    page.find(".line[data-type=heading] .ink").send_keys("Come & see")
    page.find(".line[data-type=button] .ink").send_keys("Choose your night")
    page.type(".line[data-type=button] [data-slot=href]", f"{house.site}/observatory/tickets")
    page.says("Everything passed", "#margin")
    page.click("#read-as")
    page.type(".pop input", "greta@hill")
    page.press("Greta Ingram", ".pop")
    page.says("A night for Greta", "#read-subject")
    page.wait(lambda: "saved" in page.text("#saved"))

    # A campaign and its send, read from top to bottom.
    page.open("/campaigns/new")
    page.type("#c-name", "Regulars, winter")
    page.press("Create campaign")
    page.press("Add a send")
    page.type("#as-name", "Thanks to regulars")
    page.press("Continue", "dialog")
    for slot, choice, confirm in (
        ("in", "Came twice or more", "Write to these"),
        ("message", "Thanks to regulars", None),
        ("success", None, "Apply"),
    ):
        page.click(f"#w-{slot}")
        if slot == "success":
            page.click(".pop option[value=ticket_bought]")
        else:
            page.press(choice, ".pop")
        if confirm:
            page.press(confirm, ".pop")
        page.wait(lambda: not page.all(".pop"))
    page.says("6 people")
    page.press("Review and send")
    page.says("Review")
    assert page.find("form button.btn-primary").text == "Send to 6 people"
    page.press("Send to 6 people")
    page.says("Everyone accounted for", seconds=40)

    # Read in the village: Greta clicks and buys, Kofi unsubscribes, Hamza's house stands empty.
    time.sleep(2.2)  # what is opened sooner than a person could is counted as a program's
    page.open(f"{house.site}/mailbox/greta@hill.example")
    page.press("A night for Greta")
    page.says("A night for Greta")
    frame = page.find("#mail")
    page.driver.switch_to.frame(frame)
    page.says("Come & see", "body")
    target = next(a.get_attribute("href") for a in page.all("a") if a.text == "Choose your night")
    page.driver.switch_to.default_content()
    page.open(target)
    page.says("Tickets for a night at the dome")
    page.press("Buy two tickets for 24.00")
    page.says("It is booked")
    page.open(f"{house.site}/mailbox/anon@hill.example")
    page.says("A night for you")
    page.open(f"{house.site}/mailbox/kofi@hill.example")
    page.press("A night for Kofi")
    page.press("Unsubscribe with one click")
    page.says("unsubscribed with one click")

    # Every number on the result page.
    with house.database.session() as session:
        ident = session.execute(sa.text("SELECT max(id) FROM sends")).scalar()
    page.problems()  # the village's mail frame forbids scripts, and says so
    page.open(f"/results/{ident}")
    page.says("Everyone accounted for")
    shown = counts(page)
    machine = shown.pop("machine_only")
    assert (shown["delivered"], shown["bounced"], shown["audience"]) == (5, 1, 6)
    assert (
        shown["clicked"],
        shown["converted"],
        shown["link0"],
        shown["unsubscribed"],
        shown["complained"],
    ) == (1, 1, 1, 1, 0)
    # Only mails that were shown with their pictures count as opened: Greta's and Kofi's.
    assert shown["opened"] == 2 and machine == 0
    page.says("together worth 24.00")
    page.click("[data-count=clicked]")
    page.says("Clicked: 1 person")
    page.says("Greta Ingram")
    page.open(f"/results/{ident}/people/bounced")
    page.says("no such mailbox")
    with house.database.session() as session:
        consent = session.execute(
            sa.text(
                "SELECT c.agreed FROM consents c JOIN contacts p ON p.id = c.contact_id WHERE "
                "p.email_key = 'kofi@hill.example' AND c.topic_id = 0"
            )
        ).scalar()
    assert consent is False
