"""Changes of a message by small verbs: what each does, what it refuses, and that a document stays
whole whatever is done to it."""

import copy

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from meadowrun.core.channels import beginning, take_for
from meadowrun.core.content import edit
from meadowrun.core.content.document import DocumentError, empty, take
from meadowrun.core.content.lines import LINE_TYPES, Json, new_line, walk
from meadowrun.core.content.tree import lists


class Around(edit.Around):
    """A grouping of two groups, and a shared part of two lines."""

    def groups(self, grouping):
        return [("north", "Northern"), ("south", "Southern")]

    def shared(self, part, version):
        if (part, version) != (7, 2):
            raise DocumentError("There is no such version.")
        return [line("r1", "heading", text="Find us"), line("r2", "text", html="<p>By bus</p>")]

    def keep(self, name, line):
        if not name:
            raise DocumentError("Give the shared part a name.")
        return 7, 2

    def plain(self, document):
        return "Good evening"


AROUND = Around()


def line(ident, kind, **more):
    return {**new_line(kind, **more), "id": ident}


def case(ident, *content, **more):
    return {"id": ident, "name": "", "lines": [], "group": "", "content": list(content), **more}


def document(*lines: Json) -> Json:
    return take(empty() | {"subject": "Up", "lines": list(lines)})


def done(given: Json, **change) -> Json:
    """The document after one change, as it would be saved; the one before stays as it was."""
    before = copy.deepcopy(given)
    made, _ = edit.apply(given, change, AROUND)
    assert given == before
    return take_for(given.get("channel", "email"), made)


def ids(lines):
    return [one["id"] for one in lines]


def simple():
    return document(line("h", "heading"), line("t", "text"), line("f", "footer"))


class TestLines:
    def test_a_new_one_goes_before_the_footer(self):
        made = done(simple(), do="add", type="button", into="")
        assert [x["type"] for x in made["lines"]] == ["heading", "text", "button", "footer"]

    def test_a_second_footer_goes_last(self):
        made = done(simple(), do="add", type="footer", into="")
        assert ids(made["lines"])[:3] == ["h", "t", "f"] and made["lines"][3]["type"] == "footer"

    def test_who_sees_what_begins_with_one_variant(self):
        made = done(document(), do="add", type="only", into="")
        assert len(made["lines"][0]["cases"]) == 1

    @pytest.mark.parametrize(
        ("verb", "ident", "order"),
        [
            ("up", "t", ["t", "h", "f"]),
            ("down", "h", ["t", "h", "f"]),
            ("up", "h", ["h", "t", "f"]),
            ("down", "f", ["h", "t", "f"]),
            ("remove", "t", ["h", "f"]),
        ],
    )
    def test_moved_and_removed(self, verb, ident, order):
        assert ids(done(simple(), do=verb, line=ident)["lines"]) == order

    def test_off_and_on_again(self):
        off = done(simple(), do="off", line="t")
        assert [x["off"] for x in off["lines"]] == [False, True, False]
        assert done(off, do="off", line="t") == simple()

    def test_a_copy_stands_behind_with_ids_of_its_own_at_every_depth(self):
        inner = line("i", "text", html="<p>Walk</p>")
        given = document(line("o", "only", cases=[case("v", inner)]), line("h", "heading"))
        made = done(given, do="copy", line="o")
        one, twin, last = made["lines"]
        assert (one["id"], last["id"]) == ("o", "h")
        assert twin["cases"][0]["content"][0]["html"] == "<p>Walk</p>"
        assert len(set(ids(walk(made["lines"])))) == 5

    def test_put_into_another_list(self):
        given = document(line("c", "columns"), line("h", "heading"))
        made = done(given, do="put", line="h", into="c:c1", index=0)
        assert ids(made["lines"]) == ["c"] and ids(made["lines"][0]["columns"][1]) == ["h"]

    @pytest.mark.parametrize(
        ("index", "order"), [(0, ["h", "t", "f"]), (1, ["t", "h", "f"]), (2, ["t", "f", "h"])]
    )
    def test_the_place_is_counted_without_the_line_itself(self, index, order):
        made = done(simple(), do="put", line="h", into="", index=index)
        assert ids(made["lines"]) == order

    @pytest.mark.parametrize(
        "change",
        [
            {"do": "put", "line": "d", "into": "c:c0", "index": 0},
            {"do": "put", "line": "o", "into": "c:c0", "index": 0},
            {"do": "put", "line": "d", "into": "w:case", "index": 0},
            {"do": "add", "type": "columns", "into": "c:c0"},
            {"do": "add", "type": "columns", "into": "w:case"},
        ],
    )
    def test_columns_never_stand_in_columns(self, change):
        inside = line("q", "only", cases=[case("w")])
        given = document(
            line("c", "columns", columns=[[inside], []]),
            line("d", "columns"),
            line("o", "only", cases=[case("v", line("e", "columns"))]),
        )
        with pytest.raises(DocumentError, match="phones could not stack them"):
            edit.apply(given, change, AROUND)

    def test_a_line_never_stands_in_itself(self):
        given = document(line("o", "only", cases=[case("v")]))
        with pytest.raises(DocumentError, match="inside itself"):
            edit.apply(given, {"do": "put", "line": "o", "into": "v:case", "index": 0}, AROUND)

    def test_a_picture_behind_a_line_or_before_all(self):
        made = done(simple(), do="add_picture", src="/f/a", after="h")
        assert [x["type"] for x in made["lines"]] == ["heading", "picture", "text", "footer"]
        assert made["lines"][1]["src"] == "/f/a"
        first = done(simple(), do="add_picture", src="/f/a", after="")
        assert first["lines"][0]["type"] == "picture"


class TestColumns:
    @pytest.mark.parametrize(
        ("typed", "widths", "columns"),
        [
            ("33 67", [33, 67], [["a"], ["b"]]),
            ("100", [100], [["a", "b"]]),
            ("25/25/50", [25, 25, 50], [["a"], ["b"], []]),
            ("1 1", [50, 50], [["a"], ["b"]]),
            ("10 20 30 40 50", [10, 20, 30, 40], [["a"], ["b"], [], []]),
        ],
    )
    def test_as_many_as_widths_and_nothing_lost(self, typed, widths, columns):
        given = document(line("c", "columns", columns=[[line("a", "text")], [line("b", "text")]]))
        made = done(given, do="split", line="c", value=typed)["lines"][0]
        assert (made["split"], [ids(held) for held in made["columns"]]) == (widths, columns)

    @pytest.mark.parametrize("typed", ["", "wide", "0 0", None])
    def test_no_widths_are_refused_with_an_example(self, typed):
        with pytest.raises(DocumentError, match="such as 33 67") as told:
            edit.apply(
                document(line("c", "columns")),
                {"do": "split", "line": "c", "value": typed},
                AROUND,
            )
        assert (told.value.line, told.value.slot) == ("c", "split")


class TestWhoSeesWhat:
    def given(self, *cases):
        return document(line("o", "only", cases=list(cases)))

    def test_variants_come_go_and_change_places(self):
        given = self.given(case("a"), case("b"))
        added = done(given, do="add_variant", line="o")["lines"][0]["cases"]
        assert len(added) == 3
        raised = done(given, do="raise_variant", line="b")["lines"][0]["cases"]
        assert ids(raised) == ["b", "a"]
        assert done(given, do="raise_variant", line="a") == given
        left = done(given, do="remove_variant", line="a")["lines"][0]["cases"]
        assert ids(left) == ["b"]

    def test_who_it_is_for(self):
        asked = [{"id": "x", "kind": "field", "field": "town", "op": "is", "value": ["Farrow"]}]
        made = done(self.given(case("a")), do="ask", line="a", lines=asked, name="Near")
        assert (made["lines"][0]["cases"][0]["lines"], made["lines"][0]["cases"][0]["name"]) == (
            asked,
            "Near",
        )

    def test_by_the_groups_of_a_grouping_and_back(self):
        words = [line(f"t{n}", "text", html=f"<p>{n}</p>") for n in range(3)]
        given = self.given(*(case(key, one) for key, one in zip("abc", words, strict=True)))
        made = done(given, do="grouping", line="o", value="4")["lines"][0]
        assert [(c["group"], c["name"], ids(c["content"])) for c in made["cases"]] == [
            ("north", "Northern", ["t0"]),
            ("south", "Southern", ["t1"]),
        ]
        assert ids(made["otherwise"]) == ["t2"], "what there is no group for is not lost"
        again = done(document(made), do="grouping", line="o", value=0)["lines"][0]
        assert [c["group"] for c in again["cases"]] == ["", ""] and again["grouping"] == 0


class TestParts:
    def test_chosen_unpacked_and_kept(self):
        given = document(line("s", "shared"))
        chosen = done(given, do="part", line="s", value="7:2")
        assert (chosen["lines"][0]["part"], chosen["lines"][0]["version"]) == (7, 2)
        own = done(chosen, do="unpack", line="s")["lines"]
        assert [x["type"] for x in own] == ["heading", "text"]
        assert not {"r1", "r2"} & set(ids(own)), "the lines are the message's own"
        kept = done(simple(), do="keep", line="t", name="Greeting")["lines"]
        assert [x["type"] for x in kept] == ["heading", "shared", "footer"]
        assert (kept[1]["part"], kept[1]["version"]) == (7, 2)

    @pytest.mark.parametrize(
        ("change", "says"),
        [
            ({"do": "unpack", "line": "s"}, "no such version"),
            ({"do": "keep", "line": "s", "name": ""}, "a name"),
            ({"do": "part", "line": "s", "value": "x"}, "not a whole number"),
            ({"do": "split", "line": "s", "value": "50 50"}, "no “Columns”"),
        ],
    )
    def test_what_cannot_be(self, change, says):
        with pytest.raises(DocumentError, match=says):
            edit.apply(document(line("s", "shared")), change, AROUND)


class TestTyped:
    @pytest.mark.parametrize(
        ("change", "read"),
        [
            ({"line": "", "slot": "subject", "value": "Down"}, lambda d: d["subject"] == "Down"),
            ({"line": "t", "slot": "html", "value": "<p>x</p>"}, lambda d: "x" in str(d["lines"])),
            (
                {"line": "settings", "slot": "width", "value": 640},
                lambda d: d["settings"]["width"] == 640,
            ),
        ],
    )
    def test_goes_to_its_place(self, change, read):
        assert read(done(simple(), do="set", **change))

    def test_icons_by_their_place(self):
        given = document(line("i", "icons", icons=[{"icon": "web", "href": ""}]))
        made = done(given, do="set", line="i", slot="icons.0.icon", value="map")
        made = done(made, do="set", line="i", slot="icons.0.href", value="https://a.example")
        assert made["lines"][0]["icons"] == [{"icon": "map", "href": "https://a.example"}]
        two = done(made, do="add_icon", line="i")
        assert len(two["lines"][0]["icons"]) == 2
        assert done(two, do="remove_icon", line="i", at="0")["lines"][0]["icons"][0]["href"] == ""

    @pytest.mark.parametrize(
        "change",
        [
            {"line": "", "slot": "lines", "value": []},
            {"line": "t", "slot": "id", "value": "h"},
            {"line": "t", "slot": "type", "value": "code"},
            {"line": "t", "slot": "shoe", "value": "9"},
            {"line": "gone", "slot": "html", "value": ""},
            {"line": "t", "slot": "html.0", "value": ""},
            {"line": "push", "slot": "href", "value": ""},
        ],
    )
    def test_no_such_place(self, change):
        with pytest.raises(DocumentError):
            edit.apply(simple(), {"do": "set", **change}, AROUND)

    def test_the_authors_own_plain_text_is_marked_anew(self):
        own = done(simple(), do="own_plain")
        assert own["plain"] == "Good evening" and own["plain_of"]
        stale = own | {"plain_of": "old"}
        assert done(stale, do="set", line="h", slot="text", value="x")["plain_of"] == "old"
        assert done(stale, do="same_plain")["plain_of"] == own["plain_of"]
        assert done(stale, do="set", line="", slot="plain", value="y")["plain_of"] != "old"
        assert done(own, do="made_plain")["plain"] is None

    @pytest.mark.parametrize(
        ("line_at", "slot", "expected"),
        [
            ("t", "html", "<p>Come &lt;up&gt;</p>"),
            ("h", "text", "Come <up>"),
            ("", "subject", "Come <up>"),
        ],
    )
    def test_a_suggestion(self, line_at, slot, expected):
        made = done(simple(), do="suggested", line=line_at, slot=slot, text="Come <up>")
        found = next((x for x in made["lines"] if x["id"] == line_at), made)
        assert found[slot] == expected

    def test_a_suggestion_goes_behind_what_a_text_says(self):
        given = document(line("t", "text", html="<p>Dear Ann</p><p></p>"))
        made = done(given, do="suggested", line="t", slot="html", text="Come up.")
        assert made["lines"][0]["html"] == "<p>Dear Ann</p><p>Come up.</p>"
        text = beginning("sms", "Farrow Hill", "STOP") | {"plain": "Tonight."}
        assert done(text, do="suggested", line="", slot="plain", text="Come.")["plain"] == (
            "Tonight. Come."
        )


class TestOtherChannels:
    def test_a_text_in_plain_characters(self):
        text = beginning("sms", "Farrow Hill", "STOP") | {"plain": "It’s on"}
        assert done(text, do="plainer")["plain"] == "It's on"

    @pytest.mark.parametrize("channel", ["push", "in_app"])
    def test_two_buttons_at_most(self, channel):
        given = beginning(channel, "Farrow Hill", "STOP", {})
        while len(given[channel]["buttons"]) < 2:
            given = done(given, do="add_button", of=channel)
        given = done(given, do="set", line=channel, slot="buttons.1.label", value="Later")
        assert [b["label"] for b in given[channel]["buttons"]] == ["", "Later"]
        with pytest.raises(DocumentError, match="at most 2 buttons"):
            edit.apply(given, {"do": "add_button", "of": channel}, AROUND)
        left = done(given, do="remove_button", of=channel, at="0")[channel]["buttons"]
        assert [b["label"] for b in left] == ["Later"]

    def test_the_systems_and_custom_data_of_a_notification(self):
        given = beginning("push", "Farrow Hill", "STOP")
        for value, systems in (
            (False, ["web", "ios"]),
            (False, ["web", "ios"]),
            (True, ["web", "android", "ios"]),
        ):
            given = done(given, do="set", line="push", slot="systems.android", value=value)
            assert given["push"]["systems"] == systems
        given = done(given, do="add_pair")
        given = done(given, do="set", line="push", slot="data.0.0", value="night")
        given = done(given, do="set", line="push", slot="data.0.1", value="leonids")
        assert given["push"]["data"] == [["night", "leonids"]]
        assert done(given, do="remove_pair", at=0)["push"]["data"] == []


@pytest.mark.parametrize("verb", ["fly", None, 7, ["set"]])
def test_an_unknown_change_is_refused(verb):
    with pytest.raises(DocumentError, match="not a change that can be made"):
        edit.apply(simple(), {"do": verb}, AROUND)


ANY = st.none() | st.integers(-3, 9) | st.sampled_from(["", "x", "33 67", "7:2", "0", "up"])


@settings(max_examples=150, deadline=None)
@given(
    st.lists(
        st.tuples(
            st.sampled_from(sorted(edit.VERBS)), st.integers(0, 30), st.integers(0, 30), ANY, ANY
        ),
        max_size=14,
    )
)
def test_whatever_is_done_the_document_stays_whole(steps):
    """Lines keep ids of their own, and what is taken in again says the same; what cannot be done
    is refused by name and changes nothing."""
    given = simple()
    for verb, nth, where, value, other in steps:
        names = [
            *ids(walk(given["lines"])),
            *(c["id"] for x in walk(given["lines"]) for c in x.get("cases", ())),
        ]
        places = [one.address for one in lists(given)]
        change = {
            "do": verb,
            "line": names[nth % len(names)] if names else "",
            "into": places[where % len(places)],
            "type": sorted(LINE_TYPES)[where % len(LINE_TYPES)],
            "value": value,
            "index": nth,
            "at": where,
            "slot": ["text", "html", "off", "split", "align"][where % 5],
            "text": str(other),
            "name": str(other),
            "lines": [],
            "src": str(other),
        }
        try:
            made, touched = edit.apply(given, change, AROUND)
            made = take(made)
        except DocumentError as problem:
            assert str(problem)
            continue
        found = ids(walk(made["lines"]))
        assert len(found) == len(set(found))
        assert take(made) == made
        cases = [c["id"] for x in walk(made["lines"]) for c in x.get("cases", ())]
        assert touched is None or touched in [*found, *cases]
        given = made
