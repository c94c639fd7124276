"""Sections: edits and their undoing, and the CSV file."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from saltanvil.session.apply import EDIT, apply
from saltanvil.session.document.session import Section, Session
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.sections import read, written
from tests.edits import undone


def edit(session, **data):
    return apply(session, EDIT.validate_python(data))


@pytest.fixture
def session():
    verse, chorus = Section(id="a", name="Verse", start_s=0, end_s=8), Section(id="b", name="Chorus", start_s=8, end_s=16)
    return Session(name="S", sections=[verse, chorus])


def names(session):
    return [(section.id, section.name, section.start_s, section.end_s) for section in session.sections]


def test_every_edit_of_sections_is_undone(session):
    before = names(session)
    for data in (
        {"op": "add_section", "section": {"id": "c", "name": "Intro", "start_s": 0, "end_s": 4}},
        {"op": "set_section", "section_id": "a", "name": "Verse 1", "end_s": 7.5},
        {"op": "set_section", "section_id": "b", "start_s": 0.5},
        {"op": "remove_section", "section_id": "a"},
        {"op": "batch", "edits": [{"op": "set_section", "section_id": "a", "end_s": 4},
                                  {"op": "add_section", "section": {"id": "d", "name": "Verse 2", "start_s": 4, "end_s": 8}}]},
        {"op": "batch", "edits": [{"op": "remove_section", "section_id": "b"},
                                  {"op": "set_section", "section_id": "a", "end_s": 16}]},
    ):  # fmt: skip
        changed = edit(session, **data)
        assert names(changed) != before
        starts = [section.start_s for section in changed.sections]
        assert starts == sorted(starts)
        assert names(undone(session, changed)) == before


def test_what_makes_no_sense_is_refused_in_words(session):
    for data, why in (
        ({"op": "set_section", "section_id": "a", "end_s": 0.0001, "start_s": 1}, "must end after it starts"),
        ({"op": "set_section", "section_id": "x", "name": "N"}, "no such section"),
        ({"op": "remove_section", "section_id": "x"}, "no such section"),
        ({"op": "add_section", "section": {"id": "a", "name": "N", "start_s": 0, "end_s": 1}}, "already"),
    ):
        with pytest.raises(EditRefused, match=why):
            edit(session, **data)


def test_a_loudness_held_over_a_removed_section_is_held_over_the_song(session):
    session = edit(session, op="add_step", strip_id="main", step={"id": "s", "kind": "saturator", "settings": {}})
    session = edit(session, op="set_match_over", step_id="s", over={"section_id": "a"})
    changed = edit(session, op="remove_section", section_id="a")
    assert changed.step("s").step.match_over.whole
    assert undone(session, changed).step("s").step.match_over.section_id == "a"


@given(
    st.lists(
        st.tuples(st.text(min_size=1, max_size=30), st.floats(0, 5000), st.floats(0.01, 500)).filter(lambda row: row[0].strip()),
        max_size=10,
    )
)
def test_a_file_of_sections_is_read_as_it_was_written(rows):
    sections = [Section(name=name.strip(), start_s=start, end_s=start + span) for name, start, span in rows]
    again = read(written(sections))
    assert len(again) == len(sections)
    for one, other in zip(sorted(sections, key=lambda s: (round(s.start_s, 6), round(s.end_s, 6))), again, strict=True):
        assert abs(one.start_s - other.start_s) < 1e-6 and abs(one.end_s - other.end_s) < 1e-6


def test_files_of_others_are_read_or_refused_with_the_line():
    result = read('\ufeffstart_s,end_s,name,note\n8,16,Chorus,x\n0,8,"Verse, quiet",y\n')
    assert [section.name for section in result] == ["Verse, quiet", "Chorus"]
    with pytest.raises(EditRefused, match="columns name, start_s, end_s; end_s is missing"):
        read("name,start_s\nVerse,0\n")
    with pytest.raises(EditRefused, match="line 3"):
        read("name,start_s,end_s\nVerse,0,8\nChorus,9,8\n")
    with pytest.raises(EditRefused, match="line 2"):
        read("name,start_s,end_s\nVerse,soon,8\n")


@pytest.mark.parametrize("name", ["=1+1", "'=1+1", "''@x", "-3 dB", "'quoted'", "+", "Verse"])
def test_names_that_a_spreadsheet_would_run_are_guarded_and_come_back(name):
    text = written([Section(name=name, start_s=0, end_s=1)])
    assert not text.splitlines()[1].startswith(('"=', '"+', '"-', '"@'))
    assert read(text)[0].name == name


def test_a_cell_that_no_name_can_be_is_refused_in_words():
    with pytest.raises(EditRefused, match="no table of sections"):
        read("name,start_s,end_s\n" + "x" * 200_000 + ",0,1\n")
