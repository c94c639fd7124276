"""Names of files as tracks, their order, pairs and groups."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from saltanvil.session.importing import group_of, grouped, natural_key, pairs, track_names, without_side


def test_names_are_in_the_order_people_count_in():
    names = ["10 Hat", "2 snare", "1 Kick", "Voice 12", "voice 3"]
    assert sorted(names, key=natural_key) == ["1 Kick", "2 snare", "10 Hat", "voice 3", "Voice 12"]


@pytest.mark.parametrize(
    ("files", "tracks"),
    [
        (["03_Quay_Snare_120bpm", "04_Quay_Hat_120bpm", "10_Quay_Lead Voice_120bpm"], ["Snare", "Hat", "Lead Voice"]),
        (["Quay - Guitar 1", "Quay - Guitar 2"], ["Guitar 1", "Guitar 2"]),
        (["Kick", "Snare"], ["Kick", "Snare"]),
        (["01", "02"], ["01", "02"]),
        (["Drums_In", "Drums_Out", "drums_sub"], ["In", "Out", "sub"]),
        (["Bass_DI_take", "Bass_Amp_take"], ["DI", "Amp"]),
        (["one file"], ["one file"]),
    ],
)
def test_what_all_names_share_is_taken_off(files, tracks):
    assert track_names(files) == tracks


@given(st.lists(st.text(st.characters(codec="ascii", categories=("L", "N", "P", "Zs")), min_size=1, max_size=20), max_size=8))
def test_every_file_keeps_a_name(names):
    result = track_names(names)
    assert len(result) == len(names) and all(name.strip() for name, file in zip(result, names, strict=True) if file.strip())
    if len({name.casefold() for name in names}) == len(names):
        assert len({(name, file) for name, file in zip(result, names, strict=True)}) == len(names)


def test_sides_of_one_sound_are_joined_where_both_are_mono():
    names = ["Piano.L", "Piano.R", "OH_l", "OH_r", "Room L", "Kick", "Wide.L", "Wide.R"]
    mono = [True, True, True, True, True, True, True, False]
    assert pairs(names, mono) == {0: 1, 2: 3}
    assert [without_side(name) for name in names[:3]] == ["Piano", "Piano", "OH"] and without_side("Kick") == "Kick"


@pytest.mark.parametrize(
    ("name", "group"),
    [
        ("Kick In", "Drums"), ("SN top", "Drums"), ("Hi-Hats", "Drums"), ("OH L", "Drums"), ("bass drum", "Drums"),
        ("Bass DI", "Bass"), ("Bass Guitar", "Bass"), ("GTR_2", "Guitars"), ("Acoustic guitars", "Guitars"), ("Organ", "Keys"),
        ("Lead Vox", "Voices"), ("BGV 3", "Voices"), ("Vocal room", "Voices"), ("Room", "Drums"), ("FX riser", "Effects"),
        ("Tape machine", None), ("Take 3", None),
    ],
)  # fmt: skip
def test_groups_are_known_by_the_words_of_the_trade(name, group):
    assert group_of(name) == group


def test_one_track_alone_is_no_group():
    assert grouped(["Kick", "Snare", "Bass", "Vox 1", "Vox 2"]) == {"Drums": [0, 1], "Voices": [3, 4]}
