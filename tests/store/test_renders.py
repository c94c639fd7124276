"""The file of the render store: bounded, checked, and never in the way."""

import logging
import os
import signal
import sqlite3
import subprocess
import sys
from types import SimpleNamespace

import numpy as np
import pytest

from saltanvil.engine.segments import StoredMedia
from saltanvil.store import renders
from saltanvil.store.database import Database
from saltanvil.store.media import MediaStore
from saltanvil.store.renders import RENDERS, RenderFile, RenderReader
from tests.signals import noise

SEGMENT = noise(2, 4096)


@pytest.fixture
def file(tmp_path):
    result = RenderFile(tmp_path / RENDERS, 1 << 30)
    yield result
    result.close()


def fill(file, name, segments=3, sound=SEGMENT):
    for number in range(segments):
        file.write(name, number, sound)
    file.flush()


def test_what_was_written_is_read_to_the_bit_also_after_a_restart(tmp_path, file):
    mono = noise(1, 4096, 5)
    fill(file, "one")
    fill(file, "two", sound=mono)
    for again in (file, None):
        store = again or RenderFile(tmp_path / RENDERS, 1 << 30)
        assert store.has("one", 3) and not store.has("one", 4) and not store.has("three", 1)
        assert np.array_equal(store.read("one", 2), SEGMENT) and np.array_equal(store.read("two", 0), mono)
        assert store.read("one", 3) is None and store.bytes == 3 * (SEGMENT.nbytes + mono.nbytes)
        store.close()


def test_states_are_kept_beside_their_sound_and_go_with_it(tmp_path, file):
    fill(file, "one")
    for border in (1, 3):
        file.write_state("one", border, bytes([border]) * 5000)
    file.flush()
    assert file.borders("one", 2) == [1] and file.borders("one", 9) == [1, 3] and file.borders("two", 9) == []
    assert file.read_state("one", 3) == bytes([3]) * 5000 and file.read_state("one", 2) is None
    assert file.bytes == 3 * SEGMENT.nbytes + 10_000
    file.close()
    small = RenderFile(tmp_path / RENDERS, 3 * SEGMENT.nbytes + 10_000)
    assert small.bytes == 3 * SEGMENT.nbytes + 10_000
    fill(small, "two")
    assert small.borders("one", 9) == [] and small.bytes == 3 * SEGMENT.nbytes
    small.close()


def test_another_process_reads_it_and_waits_for_nobody(tmp_path, file):
    """What plays: no file, a file that is being written, damage and another program's file are no sound, and no error."""
    reader = RenderReader(tmp_path / "elsewhere" / RENDERS)
    assert reader.read("one", 0) is None and reader.borders("one", 9) == [] and not reader.has("one", 1)
    reader = RenderReader(tmp_path / RENDERS)
    fill(file, "one")
    file.write_state("one", 1, b"state")
    file.flush()
    assert np.array_equal(reader.read("one", 1), SEGMENT) and reader.read_state("one", 1) == b"state"
    assert reader.borders("one", 9) == [1] and reader.read("one", 3) is None
    with sqlite3.connect(tmp_path / RENDERS, isolation_level=None) as connection:
        connection.execute("BEGIN EXCLUSIVE")
        assert reader.read("one", 1) is None and reader.borders("one", 9) == []
        connection.execute("ROLLBACK")
        connection.execute("UPDATE states SET state = ?", (b"stale",))
        connection.execute("UPDATE segments SET checksum = 0")
        assert reader.read_state("one", 1) is None and reader.read("one", 0) is None
        reader.close()
        connection.execute("UPDATE about SET program = 'another'")
    assert reader.borders("one", 9) == []
    connection.close()


def test_what_nobody_asked_for_the_longest_goes_first(tmp_path):
    file = RenderFile(tmp_path / RENDERS, 7 * SEGMENT.nbytes)
    for name in ("a", "b"):
        fill(file, name)
    assert file.has("a", 3)
    fill(file, "c")
    assert file.has("a", 3) and file.has("c", 3) and not file.has("b", 1)
    assert file.bytes == 6 * SEGMENT.nbytes
    fill(file, "d", 9)  # longer than all that may be kept
    assert file.bytes <= file.most_bytes
    file.close()
    assert os.stat(tmp_path / RENDERS).st_mode & 0o777 == 0o600


def test_a_flipped_bit_is_found_and_its_sound_forgotten(tmp_path, file, caplog):
    fill(file, "one")
    file.close()
    with sqlite3.connect(tmp_path / RENDERS) as connection:
        (samples,) = connection.execute("SELECT samples FROM segments WHERE number = 1").fetchone()
        damaged = bytes([samples[0] ^ 1]) + samples[1:]
        connection.execute("UPDATE segments SET samples = ? WHERE number = 1", (damaged,))
    connection.close()
    again = RenderFile(tmp_path / RENDERS, 1 << 30)
    assert np.array_equal(again.read("one", 0), SEGMENT)
    assert again.read("one", 1) is None and not again.has("one", 1) and again.bytes == 0
    assert "damaged" in caplog.text
    again.close()


@pytest.mark.parametrize("damage", ["not a database", "cut off", "another program", "another table"])
def test_a_file_that_is_not_whole_or_of_another_version_is_begun_anew(tmp_path, file, damage, monkeypatch):
    fill(file, "one", 20)
    file.close()
    path = tmp_path / RENDERS
    if damage == "not a database":
        path.write_bytes(b"no database " * 4000)
    elif damage == "cut off":
        path.write_bytes(path.read_bytes()[: path.stat().st_size // 2 - 77])
    elif damage == "another program":
        monkeypatch.setattr(renders, "program", lambda: "of tomorrow")
    else:
        path.unlink()
        connection = sqlite3.connect(path)
        connection.execute("CREATE TABLE cats (name)")
        connection.commit()
        connection.close()
    again = RenderFile(path, 1 << 30)
    fill(again, "two")
    sound = again.read("one", 0)
    assert sound is None or np.array_equal(sound, SEGMENT)  # of a file cut off, what is whole may stay
    if damage != "cut off":
        assert sound is None and np.array_equal(again.read("two", 2), SEGMENT)
    again.close()


def test_a_full_disk_or_none_at_all_is_said_once_and_nothing_is_kept(tmp_path, file, caplog):
    caplog.set_level(logging.WARNING)
    fill(file, "one")
    file._connection.execute("PRAGMA max_page_count = 2")  # as a full disk answers
    fill(file, "two", 30)
    assert caplog.text.count("keeps nothing until the next start") == 1 and "full" in caplog.text
    assert not file.has("one", 3) and file.read("one", 0) is None
    (tmp_path / "a file").write_text("")
    nowhere = RenderFile(tmp_path / "a file" / RENDERS, 1 << 30)
    fill(nowhere, "one")
    assert not nowhere.has("one", 1)
    nowhere.close()


def test_a_disk_that_hangs_keeps_nobody_waiting_and_is_used_again_once_it_is_back(file, monkeypatch):
    monkeypatch.setattr(renders, "PATIENCE_S", 0.05)
    fill(file, "one")
    with file._lock:  # the writer in the midst of a transaction
        for number in range(3 * renders.MAX_WAITING):
            file.write("two", number, SEGMENT)
        assert not file.has("one", 3) and file.read("one", 0) is None
        file.close()
    file.flush()
    assert file.bytes < 3 * renders.MAX_WAITING * SEGMENT.nbytes


def test_nothing_is_kept_where_nothing_may_be(tmp_path, file):
    fill(file, "one")
    file.close()
    none = RenderFile(tmp_path / RENDERS, 0)
    fill(none, "two")
    assert not none.has("one", 1) and not none.has("two", 1) and not (tmp_path / RENDERS).exists()
    none.close()


def test_what_it_takes_already_makes_it_no_smaller(tmp_path, monkeypatch):
    monkeypatch.setattr(renders.shutil, "disk_usage", lambda folder: SimpleNamespace(free=1000 - sum(
        path.stat().st_size for path in folder.iterdir())))  # fmt: skip
    before = renders.default_bytes(tmp_path)
    (tmp_path / RENDERS).write_bytes(bytes(600))
    assert renders.default_bytes(tmp_path) == before == 100


def test_media_that_take_the_number_of_others_have_another_key(tmp_path):
    with Database(tmp_path / "saltanvil.db") as database:
        store = MediaStore(database)

        def add():
            return store.add("a", "wav", 48000, 2, iter([SEGMENT]), 48000)

        first = add()
        key = store.at_rate(48000).key(first)
        store.drop(first)
        again = MediaStore(database)
        assert again.add("a", "wav", 48000, 2, iter([SEGMENT]), 48000) == first
        assert again.at_rate(48000).key(first) not in (key, "")
        assert isinstance(again.at_rate(48000), StoredMedia) and again.at_rate(48000).renders is None


WRITER = """
import sys
from pathlib import Path
from saltanvil.store.renders import RenderFile
from tests.signals import noise
file = RenderFile(Path(sys.argv[1]), 1 << 30)
for n in range(100_000):
    file.write(f"sound {n // 40}", n % 40, noise(2, 4096, n % 40))
    if n == 200:
        print("under way", flush=True)
"""


def test_a_killed_process_leaves_whole_segments(tmp_path):
    path = tmp_path / RENDERS
    writer = subprocess.Popen([sys.executable, "-c", WRITER, str(path)], stdout=subprocess.PIPE, text=True)
    assert writer.stdout.readline() == "under way\n"
    writer.send_signal(signal.SIGKILL)
    writer.wait()
    writer.stdout.close()
    file = RenderFile(path, 1 << 30)
    assert file.has("sound 0", 40)
    for number in range(40):
        assert np.array_equal(file.read("sound 0", number), noise(2, 4096, number))
    fill(file, "after")
    assert file.has("after", 3)
    file.close()
