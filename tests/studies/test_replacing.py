"""Which file is for which track."""

from pathlib import Path

from saltanvil.session.document.session import Printed, Session, Strip
from saltanvil.studies.replacing import files_for


def session(*names, **more):
    tracks = [Strip(id=f"t{n}", name=name, kind="track", media_id=n, **more) for n, name in enumerate(names)]
    return Session(name="S", strips=[*Session(name="x").strips, *tracks])


def found(session, *names):
    return {session.strip(strip).name: file.name for strip, file in files_for(session, [Path(name) for name in names]).items()}


def test_files_are_for_the_tracks_that_are_called_like_them():
    one = session("Guitar left", "Snare", "Kick")
    assert found(one, "guitar_LEFT.wav", "Snare.flac", "Oar.wav") == {"Guitar left": "guitar_LEFT.wav", "Snare": "Snare.flac"}
    # What all files have in common, and leading numbers, are no part of their names.
    stems = ("01_Quay_Kick_v2.wav", "02_Quay_Snare_v2.wav")
    assert found(one, *stems) == {"Kick": stems[0], "Snare": stems[1]}
    # A name as it is goes before one that something was taken off.
    assert found(session("Mix Oar"), "Mix Oar.wav", "Mix Bell.wav") == {"Mix Oar": "Mix Oar.wav"}


def test_tracks_of_one_name_and_printed_ones_are_left_alone():
    assert found(session("Oar", "oar", "Kick"), "Oar.wav", "Kick.wav") == {"Kick": "Kick.wav"}
    printed = Printed(media_id=9, start_s=0.0, trim_db=0.0, channels=1)
    assert found(session("Oar", printed=printed), "Oar.wav") == {}
