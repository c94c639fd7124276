"""Names of files: what any system takes. Rules of Win32 naming and of 255 bytes a name: common practice, no source."""

import unicodedata

from hypothesis import given
from hypothesis import strategies as st

from saltanvil.media.names import MAX_NAME_BYTES, file_name, file_names, name_key

DEVICES = ["CON", "prn", "aux", "NUL", "com1", "LPT9", "nul.tar", "con .wav", "COM²"]


def test_names_of_devices_and_long_ones_are_given_another():
    for title in DEVICES:
        name = file_name(title, ".wav")
        assert name == f"_{title}.wav" and file_name(title).startswith("_")
    assert file_name("console", ".wav") == "console.wav" and file_name("a.nul", ".wav") == "a.nul.wav"
    long = file_name("🎚" * 200, ".wav", 12)
    assert len(long.encode()) <= MAX_NAME_BYTES and long.endswith("🎚 12.wav")
    assert [file_name(title, ".wav") for title in ("", " . ", "a/b\\c:d", "take. ", "x\u202egpj")] == [
        "untitled.wav", "untitled.wav", "a_b_c_d.wav", "take.wav", "xgpj.wav",
    ]  # fmt: skip


titles = st.one_of(
    st.text(max_size=120), st.sampled_from([*DEVICES, "a", "A", "a 2", "é", "e\u0301", "drums/Kick", "drums /kick"])
)


@given(st.lists(titles, max_size=12), st.sampled_from([".wav", ".flac", ""]))
def test_any_titles_become_names_that_any_system_takes_each_once(titles, suffix):
    names = file_names(titles, [suffix] * len(titles))
    assert len({name_key(name) for name in names}) == len(names)
    for name, title in zip(names, titles, strict=True):
        parts = name.split("/")
        assert len(parts) == len(title.split("/"))
        for part in parts:
            assert part and len(part.encode()) <= MAX_NAME_BYTES and part[0] != "/" and part[-1] not in ". "
            assert part.split(".")[0].strip().upper() not in ("CON", "PRN", "AUX", "NUL", "COM1", "LPT9")
            assert not any(unicodedata.category(letter) in ("Cc", "Cf", "Cs") or letter in '<>:"\\|?*' for letter in part)


def test_names_that_are_taken_are_left():
    assert file_names(["a", "a", "b"], [".wav"] * 3, {name_key("A.wav")}) == ["a 2.wav", "a 3.wav", "b.wav"]
