"""Who waits for whom: a question over the whole song gives way to those about the passage."""

import threading

from saltanvil.web import services as module
from saltanvil.web.services import Services


def asked(services, kind):
    """A question that has been worked on for a while asks whether it is still wanted."""
    ticket = services.ask("tab", kind)
    ticket._began -= 1000.0
    answers = []
    thread = threading.Thread(target=lambda: answers.append(ticket.superseded()), daemon=True)
    thread.start()
    return thread, answers


def test_a_question_over_the_whole_song_waits_for_those_about_the_passage(tmp_path, monkeypatch):
    monkeypatch.setattr(module, "SOUND_FIRST_S", 60.0)
    services = Services(tmp_path / "data")
    try:
        with services.working("scope"):
            other, answers = asked(services, "spectrum")
            other.join()  # one about the passage waits for none
            assert answers == [False]
            song, answers = asked(services, "contrast")
            song.join(0.3)
            assert song.is_alive() and not answers
        song.join()
        assert answers == [False]
        with services.working("contrast"):  # two of them do not wait for each other
            song, answers = asked(services, "contrast")
            song.join()
            assert answers == [False]
    finally:
        services.close()


def test_it_waits_for_a_share_of_its_time_only(tmp_path, monkeypatch):
    monkeypatch.setattr(module, "SOUND_FIRST_S", 60.0)
    services = Services(tmp_path / "data")
    try:
        with services.working("scope"):
            ticket = services.ask("tab", "contrast")
            ticket._began, ticket._waited_s = ticket._began - 1000.0, 950.0
            assert not ticket.superseded()  # at once
    finally:
        services.close()
