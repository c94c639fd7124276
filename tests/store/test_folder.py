"""The data folder: one process at a time, damaged and foreign databases, copies, media that nothing needs."""

import os
import shutil
import sqlite3
import stat
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
import soundfile

from saltanvil.cli import main
from saltanvil.cli.serving import ensure_demo
from saltanvil.session.address import Moved
from saltanvil.session.apply import apply
from saltanvil.session.document.session import Session, Strip
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.edits.strips import AddStrip, RemoveStrip
from saltanvil.session.edits.values import Set
from saltanvil.store.comparisons import ComparisonStore
from saltanvil.store.copies import KEPT_DAYS, back_up, copy_documents, findings, restore_documents
from saltanvil.store.database import Database, StoreError, newest_version
from saltanvil.store.folder import DATABASE, DataFolder
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore
from saltanvil.studies.blind import BlindResult
from saltanvil.web.services import Services
from tests.conftest import PATIENCE_S
from tests.signals import noise

DAY = 86400.0


@pytest.fixture
def folder(tmp_path):
    """A session with one track, one edit and its sound."""
    folder = tmp_path / "data"
    with DataFolder(folder) as held:
        database = Database(held.database)
        sessions, media = SessionStore(database), MediaStore(database)
        session_id = sessions.create(Session(name="Kelpwick"))
        media_id = media.add("take", "wav", 48000, 1, iter([noise(1, 100_000)]), 48000)
        sessions.edit(session_id, AddStrip(strip=Strip(id="t", name="Take", kind="track", media_id=media_id)))
    close(database)
    return folder


def close(database):
    database.connection().execute("PRAGMA wal_checkpoint(TRUNCATE)")
    database.close()


def serve(folder):
    command = [sys.executable, "-m", "saltanvil.cli", "serve", "--port", "0", "--empty", "--data", str(folder)]
    return subprocess.Popen(
        [*command, "--until-stdin-closes"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )


def test_the_second_server_is_refused_and_the_lock_dies_with_its_process(folder, tmp_path):
    first = serve(folder)
    try:
        while "http://" not in first.stdout.readline():
            assert first.poll() is None
        second = serve(folder)
        out, err = second.communicate(timeout=PATIENCE_S)
        assert second.returncode == 1 and "http://" not in out
        assert len(err.splitlines()) == 1 and str(folder) in err and str(first.pid) in err and "--data" in err
        copy = tmp_path / "all.db"
        back_up(folder, copy)  # reading needs no lock
        with pytest.raises(StoreError, match="another Salt Anvil"):
            DataFolder(folder)
        restoring = subprocess.run(
            [sys.executable, "-m", "saltanvil.cli", "restore", str(copy), "--data", str(folder)], capture_output=True, text=True
        )
        assert restoring.returncode == 1 and "another Salt Anvil" in restoring.stderr
    finally:
        first.kill()
        first.wait()
    DataFolder(folder).close()


def flip(path):
    data = bytearray(path.read_bytes())
    with sqlite3.connect(path) as connection:
        root = connection.execute("SELECT rootpage FROM sqlite_master WHERE name = 'sessions'").fetchone()[0]
    page = int.from_bytes(data[16:18], "big")
    for at in range((root - 1) * page, (root - 1) * page + 64):
        data[at] ^= 0x5A
    path.write_bytes(data)


def newer(path):
    with sqlite3.connect(path) as connection:
        connection.execute("PRAGMA user_version = 99")
    connection.close()


def foreign(path):
    path.unlink()
    with sqlite3.connect(path) as connection:
        connection.execute("CREATE TABLE recipes (name TEXT)")
    connection.close()


DAMAGE = {
    "flipped bits": (flip, "damaged"),
    "cut off": (lambda path: os.truncate(path, path.stat().st_size // 2), "cut off"),
    "cut in its header": (lambda path: os.truncate(path, 50), "not a database"),
    "empty": (lambda path: path.write_bytes(b""), "empty"),
    "text": (lambda path: path.write_text("This is not what you are looking for. " * 100), "not a database"),
    "newer": (newer, "newer version"),
    "of another program": (foreign, "another program"),
}


@pytest.mark.parametrize("name", DAMAGE)
def test_what_is_no_database_of_ours_is_refused_in_one_line_and_left_alone(folder, name, capsys):
    damage, words = DAMAGE[name]
    path = folder / DATABASE
    damage(path)
    before = path.read_bytes()
    for command in (
        ["serve", "--port", "0"],
        ["check"],
        ["backup", "-o", str(folder / "copy.db")],
        ["render", "1", "-o", str(folder)],
    ):
        assert main([*command, "--data", str(folder)]) == 1
        err = capsys.readouterr().err
        assert len(err.splitlines()) == 1 and words in err and str(path) in err, err
    assert path.read_bytes() == before and not (folder / "copy.db").exists()


def test_a_file_in_place_of_the_folder(tmp_path, capsys):
    (tmp_path / "data").write_text("taken")
    assert main(["serve", "--port", "0", "--data", str(tmp_path / "data")]) == 1
    assert "a file, not a folder" in capsys.readouterr().err
    assert main(["serve", "--port", "0", "--data", str(tmp_path / "data/below")]) == 1
    assert "a file, not a folder" in capsys.readouterr().err
    assert (tmp_path / "data").read_text() == "taken"


def test_check_finds_what_opening_does_not(folder, capsys):
    assert main(["check", "--data", str(folder)]) == 0
    assert "no fault found" in capsys.readouterr().out
    with sqlite3.connect(folder / DATABASE) as connection:
        connection.execute("UPDATE chunks SET samples = substr(samples, 1, 1000) WHERE place = 1")
        connection.execute("""UPDATE sessions SET document = replace(document, '"name":"Take"', '"name":[]')""")
    connection.close()
    wrong = [finding.text for finding in findings(folder) if finding.wrong]
    assert any("the sound of take at 48000 Hz is not whole" in text for text in wrong)
    assert any("Kelpwick" in text for text in wrong)
    assert main(["check", "--data", str(folder)]) == 1


def test_a_backup_taken_while_edits_go_on_is_whole(folder, tmp_path):
    with DataFolder(folder) as held:
        sessions = SessionStore(Database(held.database))
        for number in range(20):
            sessions.rename(1, f"name {number}")
        back_up(folder, tmp_path / "copy.db")
        sessions.rename(1, "later")
        copied = tmp_path / "there"
        copied.mkdir()
        shutil.move(tmp_path / "copy.db", copied / DATABASE)
        assert SessionStore(Database(copied / DATABASE)).version(1).session.name == "name 19"
        assert not [finding.text for finding in findings(copied) if finding.wrong]
        with pytest.raises(StoreError, match="is there already"):
            back_up(folder, copied / DATABASE)
        with pytest.raises(StoreError, match="no such folder"):
            back_up(folder, tmp_path / "gone/copy.db")


def test_the_last_three_days_are_kept_and_come_back_beside_what_is_there(folder):
    with DataFolder(folder) as held:
        database = Database(held.database)
        sessions = SessionStore(database)
        compared = BlindResult(
            mode="prefer", of="Take", passage="Verse", start_s=0.0, end_s=2.0, candidates=["Before", "After"], planned=3,
            rounds=[], counts=[1, 2],
        )  # fmt: skip
        now = time.mktime((2026, 11, 20, 12, 0, 0, 0, 0, -1))
        for day in range(5):
            assert copy_documents(folder, now + day * DAY) is not None
            assert copy_documents(folder, now + day * DAY + 60) is None
            sessions.rename(1, f"day {day + 1}")
            if day == 1:
                ComparisonStore(database).add(1, compared)
        copies = sorted((folder / "copies").iterdir())
        assert [path.name for path in copies] == [f"documents-2026-11-{day}.db" for day in (22, 23, 24)] and len(
            copies
        ) == KEPT_DAYS
        assert restore_documents(database, copies[0]) == ["day 2 (2026-11-22)"]
        restored = sessions.version(2)
        assert restored.session.strips == sessions.version(1).session.strips
        assert sessions.undo(2).session.name == "day 1"  # with its history
        assert sessions.version(1).session.name == "day 5"
        assert [one.counts for one in ComparisonStore(database).listed(2)[0]] == [[1, 2]]


def test_media_that_nothing_needs_go_after_a_week(folder):
    with DataFolder(folder) as held:
        database = Database(held.database)
        sessions, media = SessionStore(database), MediaStore(database)
        alone = media.add("alone", "wav", 48000, 1, iter([noise(1, 1000)]), 48000)
        sessions.edit(1, RemoveStrip(strip_id="t"))  # its undo needs the sound
        now = time.time()
        assert media.sweep(now) == 0 and media.sweep(now + 6.9 * DAY) == 0 and media.row(alone)
        assert media.sweep(now + 7.1 * DAY) == 4000
        assert [row[0] for row in database.connection().execute("SELECT name FROM media")] == ["take"]
        assert np.any(media.at_rate(48000).read(1, 0, 100))


def test_one_sessions_long_edit_does_not_hold_up_anothers(folder, monkeypatch):
    """The other session is edited, stored and answered from within the first one's edit."""
    with DataFolder(folder) as held:
        database = Database(held.database)
        sessions = SessionStore(database)
        other = sessions.create(Session(name="Other"))
        import saltanvil.store.sessions as module

        def slow(session, edit):
            if session.name == "Kelpwick":
                monkeypatch.setattr(module, "apply", apply)
                assert sessions.rename(other, "answered").session.name == "answered"
            return apply(session, edit)

        monkeypatch.setattr(module, "apply", slow)
        assert sessions.rename(1, "later").session.name == "later"
        assert sessions.version(other).session.name == "answered"


def test_a_deleted_session_takes_no_edits(folder):
    with DataFolder(folder) as held:
        sessions = SessionStore(Database(held.database))
        sessions.set_deleted(1, True)
        for change in (lambda: sessions.rename(1, "x"), lambda: sessions.undo(1)):
            with pytest.raises(EditRefused, match="deleted; restore it"):
                change()
        sessions.set_deleted(1, False)
        assert sessions.rename(1, "x").session.name == "x"


def test_nobody_else_reads_the_folder(tmp_path):
    folder = tmp_path / "new"
    with DataFolder(folder) as held:
        Database(held.database).connection().execute("BEGIN IMMEDIATE")
        modes = {path.name: stat.S_IMODE(path.stat().st_mode) for path in (folder, *folder.iterdir())}
    assert modes.pop("new") == 0o700 and set(modes.values()) == {0o600}


def test_a_disk_that_turns_read_only_is_said(folder):
    """As SQLite says it: its own switch for the connection stands for the disk's."""
    with DataFolder(folder) as held:
        database = Database(held.database)
        sessions = SessionStore(database)
        sessions.version(1)
        database.connection().execute("PRAGMA query_only = 1")
        with pytest.raises(StoreError, match="is the disk or the folder read-only"):
            sessions.rename(1, "x")
        database.connection().execute("PRAGMA query_only = 0")
        assert sessions.rename(1, "x").session.name == "x"


def test_a_folder_without_leave_to_write_is_one_line(tmp_path, monkeypatch, capsys):
    def refuse(*_, **__):
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr("saltanvil.store.folder.os.open", refuse)
    assert main(["serve", "--port", "0", "--data", str(tmp_path)]) == 1
    err = capsys.readouterr().err
    assert len(err.splitlines()) == 1 and "Permission denied" in err and str(tmp_path) in err


def test_what_a_full_disk_kept_from_going_goes_with_the_next_import(folder):
    with DataFolder(folder) as held:
        database = Database(held.database)
        media = MediaStore(database)
        left = media.add("left", "wav", 48000, 1, iter([noise(1, 1000)]), 48000)
        database.connection().execute("PRAGMA query_only = 1")
        media.drop(left)
        database.connection().execute("PRAGMA query_only = 0")
        media.add("next", "wav", 48000, 1, iter([noise(1, 1000)]), 48000)
        assert [row[0] for row in database.connection().execute("SELECT name FROM media")] == ["take", "next"]


def test_what_is_heard_early_of_a_drag_is_what_is_stored(folder):
    """The player is told of a session before it is stored: it must be that very one, or it would be taken back twice."""
    with DataFolder(folder) as held:
        sessions = SessionStore(Database(held.database))
        told: list[Session] = []
        for name in ("a", "b", "c"):
            edit = Set(values=[Moved(of="session", name="name", value=name)])
            assert sessions.edit(1, edit, "drag", told.append).session is told[-1]


def test_another_process_that_reads_and_leaves_does_not_take_the_log_away(folder):
    """The last connection that closes deletes SQLite's log. A server that had lost its lock on the file (POSIX drops all of a
    process's locks on a file when any of its descriptors of it closes; "How To Corrupt An SQLite Database File", 2.2) had it
    deleted under it, and its new connections failed with a disk I/O error."""
    ensure_demo(folder)  # which looks into it, and leaves
    services = Services(folder)
    try:
        services.sessions.create(Session(name="Kelpwick"))
        log = folder / f"{DATABASE}-wal"
        before = log.stat().st_ino, log.stat().st_size
        code = "import sqlite3, sys; c = sqlite3.connect(sys.argv[1]); print(*c.execute('PRAGMA user_version')); c.close()"
        command = [sys.executable, "-c", code, str(folder / DATABASE)]
        assert subprocess.run(command, capture_output=True, text=True, check=True).stdout == f"({newest_version()},)\n"
        assert (log.stat().st_ino, log.stat().st_size) == before
        with ThreadPoolExecutor(1) as pool:  # a connection of its own
            assert pool.submit(services.sessions.create, Session(name="Low tide")).result() == 3
    finally:
        services.close()


def test_a_database_that_is_closed_leaves_no_connection(folder):
    with DataFolder(folder) as held, Database(held.database) as database:
        sessions = SessionStore(database)
        with ThreadPoolExecutor(2) as pool:
            assert list(pool.map(lambda _: len(sessions.listed()), range(8))) == [1] * 8
    # A connection that was left would keep the log beside the database; the last that closes takes it away.
    assert not folder.joinpath(f"{DATABASE}-wal").exists()


def left_alone(folder):
    """What a folder holds, with the times of its files and of itself: a file that came and went is seen by that."""
    return {str(path): (path.stat().st_mtime_ns, path.stat().st_size) for path in [folder, *folder.rglob("*")]}


def reading_commands(folder, out):
    data = ["--data", str(folder)]
    return [
        ["render", "Kelpwick", "-o", str(out), *data], ["pack", "Kelpwick", "-o", str(out / "session.zip"), *data],
        ["backup", "-o", str(out / "backup.db"), *data], ["check", *data],
    ]  # fmt: skip


def test_reading_needs_no_writing(folder, tmp_path, capsys):
    """On a folder without the right to write (which an administrator has all the same), and by what is left of the folder."""
    out = tmp_path / "out"
    out.mkdir()
    before = left_alone(folder)
    folder.chmod(0o500)
    (folder / DATABASE).chmod(0o400)
    try:
        for command in reading_commands(folder, out):
            assert main(command) == 0, capsys.readouterr().err
            assert left_alone(folder) == before, command
    finally:
        folder.chmod(0o700)
    assert {path.name for path in out.iterdir()} == {"Kelpwick - Main.wav", "session.zip", "backup.db"}
    soundfile.write(folder / "take.wav", noise(1, 48000).T, 48000)
    folder.chmod(0o500)
    before = left_alone(folder)
    assert main(["measure", str(folder / "take.wav")]) == 0 and left_alone(folder) == before
    folder.chmod(0o700)


def test_reading_beside_a_server(folder, tmp_path):
    out = tmp_path / "out"
    out.mkdir()
    process = serve(folder)
    try:
        while "http://" not in process.stdout.readline():
            assert process.poll() is None
        for command in reading_commands(folder, out):
            assert main(command) == 0, command
    finally:
        process.stdin.close()
        process.wait(PATIENCE_S)


def test_what_an_earlier_version_made_is_brought_up_to_date_or_says_that_it_must_be(tmp_path, capsys, monkeypatch):
    folder = tmp_path / "old"
    folder.mkdir()
    shutil.copy(Path(__file__).parent.parent / "golden/format1/saltanvil.db", folder / DATABASE)
    assert main(["check", "--data", str(folder)]) in (0, 1) and "no such column" not in capsys.readouterr().out

    def refused(path):
        raise StoreError(f"{path}: the folder cannot be written (Read-only file system)")

    with monkeypatch.context() as patch:
        patch.setattr("saltanvil.store.copies.DataFolder", refused)
        assert main(["pack", "1", "-o", str(tmp_path / "a.zip"), "--data", str(folder)]) == 1
        assert "made by an earlier version, it must be brought up to date" in capsys.readouterr().err
    assert main(["pack", "1", "-o", str(tmp_path / "a.zip"), "--data", str(folder)]) in (0, 1)
    assert "no such column" not in capsys.readouterr().err
