"""The demo's faults are there, in the size that is written down (invented data)."""

import numpy as np
import pytest

from saltanvil.demo import harbour_walk
from saltanvil.demo import low_water as demo
from saltanvil.demo.synth import RATE
from saltanvil.dsp.gate import HOLDING
from saltanvil.engine.audition import Audition, Scope
from saltanvil.engine.cache import SegmentCache
from saltanvil.engine.compile import compile_plan
from saltanvil.engine.media import Arrays
from saltanvil.engine.rack import Rack
from saltanvil.engine.render import render_strips
from saltanvil.engine.scope import ScopeRenderer
from saltanvil.measure import speaker
from saltanvil.measure.figures import figures_of
from saltanvil.session.address import Address
from saltanvil.session.automation import Automation
from saltanvil.session.document.session import Session
from saltanvil.session.matches import matches_of
from saltanvil.studies.contrast import contrast_of
from saltanvil.studies.match.match import with_current_matches

FAULTS = demo.FAULTS


@pytest.fixture
def tracks(demo_tracks):
    return demo_tracks


def db(value):
    return 20 * np.log10(value)


def spectrum_db(x, low, high):
    """Mean power between two frequencies, in dB."""
    power = np.abs(np.fft.rfft(x * np.hanning(len(x)))) ** 2
    hz = np.fft.rfftfreq(len(x), 1 / RATE)
    return 10 * np.log10(power[(hz >= low) & (hz < high)].mean())


def test_it_is_the_same_every_time(tracks):
    assert np.array_equal(tracks["Snare"], demo.make_snare().astype(np.float32))
    assert len(tracks) == 10 and tracks["Overheads"].shape[0] == 2
    assert all(np.isfinite(x).all() and np.abs(x).max() < 1 for x in tracks.values())


def test_stray_snare_hits(tracks):
    hits = {}
    for at, _ in demo.snare_times():
        start = round(at * RATE)
        if abs(at / demo.BEAT_S - round(at / demo.BEAT_S)) > 0.1:
            continue  # a ghost note
        hits[round(at / demo.BEAT_S)] = np.abs(tracks["Snare"][0, start : start + 2400]).max()
    stray = {bar * 4 + beat for bar, beat in FAULTS.stray_snare}
    for name, first, last in demo.SECTIONS[1:]:
        usual = np.median([v for beat, v in hits.items() if first <= beat // 4 < last and beat not in stray and beat % 2])
        for beat in stray:
            if first <= beat // 4 < last:
                assert db(hits[beat] / usual) == pytest.approx(FAULTS.stray_snare_db, abs=1.2), (name, beat)


def test_room_between_phrases(tracks):
    gaps = demo.phrase_gaps()
    assert len(gaps) >= 4
    for start, end in gaps:
        quiet = tracks["Lead voice"][0, round(start * RATE) : round(end * RATE)]
        assert db(np.sqrt(np.mean(quiet**2))) == pytest.approx(FAULTS.room_dbfs, abs=1)


def test_sibilants_ring_boom_and_mud(tracks):
    voice = tracks["Lead voice"][0]
    hisses = [s for s, _, _, _, hiss, _ in demo.syllables() if hiss]
    at = round((hisses[3] - 0.09) * RATE)
    hiss = voice[at : at + 4096]
    hz = np.fft.rfftfreq(4096, 1 / RATE)
    peak = hz[np.where(hz > 3500, np.abs(np.fft.rfft(hiss * np.hanning(4096))), 0).argmax()]
    assert peak == pytest.approx(FAULTS.sibilant_hz, rel=0.15)
    chorus = slice(*demo.frames_of("Chorus"))
    ring = tracks["Overheads"][0, chorus]
    assert spectrum_db(ring, 4150, 4250) - spectrum_db(ring, 4400, 5000) > 0.5 * FAULTS.ring_db
    organ = tracks["Organ"][0, chorus]
    assert spectrum_db(organ, 200, 320) > spectrum_db(organ, 500, 900)
    plain = tracks["Bass"][0, round(19 * demo.BAR_S * RATE) : round(20 * demo.BAR_S * RATE)]  # a bar on A, 55 Hz
    assert demo.PROGRESSION[19] == "Am" and spectrum_db(plain, 53, 57) > spectrum_db(plain, 108, 112) + 6


def test_chorus_over_verse(tracks):
    """The chorus is 8 LU above the verse as it comes to the main; what finishes the main keeps the contrast that is wished."""
    session = with_current_matches(
        demo.build_session({name: index for index, name in enumerate(tracks)}), Arrays(*tracks.values())
    )
    [contrast] = contrast_of(session, Arrays(*tracks.values()), [Scope("main")])
    result = {section.name: section for section in contrast.sections}
    before = result["Chorus"].before.integrated_lufs - result["Verse"].before.integrated_lufs
    assert before == pytest.approx(FAULTS.chorus_over_verse_lu, abs=0.7)
    assert contrast.after_lu >= session.keep_contrast_lu == demo.KEEP_CONTRAST_LU and not contrast.hints
    assert all(section.lost_lu < 1.0 for section in contrast.sections)
    assert -1.3 < max(section.after.true_peak_dbtp for section in contrast.sections) <= -1.0
    limiter = session.step("main-limiter").step.settings
    taken = max(section.reduction.largest_db for section in contrast.sections)
    assert 1.0 < taken < 2.5 and limiter.warn_above_db == 2.0


def test_colours_help_where_they_are(tracks):
    """The bass on small speakers, the drums' hits rounder and the voice denser at their loudness (BS.1770 by our meter)."""
    bass = tracks["Bass"][0, slice(*demo.frames_of("Chorus"))]
    dark = FAULTS.bass_dark_hz
    assert spectrum_db(bass, dark / 3, dark) - spectrum_db(bass, 2 * dark, 4 * dark) > 24
    media, chorus = Arrays(*tracks.values()), demo.frames_of("Chorus")
    session = with_current_matches(demo.build_session({name: index for index, name in enumerate(tracks)}), media)
    assert len(matches_of(session)) == 2
    renderer = lambda version: ScopeRenderer(version, media, SegmentCache(), *chorus)  # noqa: E731
    result = {s.id: (strip.id, s) for strip in session.strips if strip.id != "main"
              for s in strip.path.steps if s.kind in ("lowend", "saturator")}  # fmt: skip
    assert {strip for strip, _ in result.values()} == {"bass", "drums", "lead-voice"}
    for strip, made in result.values():
        told = renderer(session).compare(Scope(strip, made.id))
        before, after = figures_of(told.before, RATE), figures_of(told.after, RATE)
        if made.kind == "lowend":
            assert speaker.louder_lu(told.before, told.after, RATE) > 3 and after.integrated_lufs - before.integrated_lufs < 1
        else:
            assert after.integrated_lufs == pytest.approx(before.integrated_lufs, abs=0.05)
            assert db(np.std(told.after - told.before) / np.std(told.before)) > -30  # and yet it does something
        if strip == "drums":
            assert after.true_peak_dbtp < before.true_peak_dbtp


# ---- "Harbour Walk" -----------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def walk():
    tracks = harbour_walk.synthesise()
    return tracks, harbour_walk.build_session({name: index for index, name in enumerate(tracks)}), Arrays(*tracks.values())


def rms_db(x):
    return db(np.sqrt(np.mean(x**2)) + 1e-12)


def span(start_s, end_s):
    return slice(round(start_s * RATE), round(end_s * RATE))


def pauses():
    """Stretches between phrases, from half a second after the last word to before the next breath."""
    phrases = harbour_walk.spoken()
    return [(a[1] + 0.5, b[0] - 0.6) for a, b in zip(phrases, phrases[1:], strict=False) if b[0] - a[1] > 1.4]


def test_the_narrator_has_words_pauses_breaths_and_a_room(walk):
    tracks, _, _ = walk
    voice = tracks["Narrator"][0]
    assert len(pauses()) >= 4
    for start, end in pauses():
        assert rms_db(voice[span(start, end)]) == pytest.approx(harbour_walk.FAULTS.room_dbfs, abs=1)
    for start, end in harbour_walk.spoken():
        assert rms_db(voice[span(start, end)]) > -28
        breath = voice[span(start - 0.45, start - 0.15)]
        assert db(np.abs(breath).max()) == pytest.approx(harbour_walk.FAULTS.breath_dbfs, abs=2.5)
    bed = tracks["Music bed"][:, span(10, 50)]
    assert rms_db(bed) == pytest.approx(harbour_walk.FAULTS.bed_dbfs, abs=0.5)
    # The printed reverb begins behind the words and goes on when they end.
    start, end = harbour_walk.spoken()[0]
    wet = tracks["Printed reverb"]
    assert rms_db(wet[:, span(start - 0.4, start - 0.1)]) < rms_db(wet[:, span(end + 0.1, end + 0.5)]) - 10


def test_the_bed_falls_under_the_words_and_is_back_in_the_pauses(walk):
    _, session, media = walk
    settings = session.step("bed-duck").step.settings
    result = ScopeRenderer(session, media, SegmentCache(), 0, harbour_walk.FRAMES).compare(Scope("bed", "bed-duck"))
    words = harbour_walk.spoken()
    tick = lambda second: round(second * RATE / 64)  # noqa: E731
    for start, end in words:
        said = result.reduction_db[tick(start + 0.3) : tick(end)]
        assert said.min() == pytest.approx(settings.depth_db, abs=0.05)
    long = [(a[1], b[0]) for a, b in zip(words, words[1:], strict=False) if b[0] - a[1] > 2.4]
    assert long
    for end, following in long:
        quiet = result.reduction_db[tick(end + (settings.hold_ms + settings.decay_ms) / 1000 + 0.06) : tick(following - 0.6)]
        assert np.abs(quiet).max() < 0.2
    assert np.array_equal(result.before, media.read(session.strip("bed").media_id, 0, harbour_walk.FRAMES))
    # *Taken* plays exactly the difference, at the strip's level.
    plan = compile_plan(session, media, Rack(), Audition(Scope("bed", "bed-duck"), "difference"))
    blocks = [plan.render(at, 1024).copy() for at in range(0, 1024 * 1200, 1024)]
    left, right = plan.node("bed").gains
    heard = np.concatenate(blocks, axis=1)
    taken = (result.before - result.after)[:, : heard.shape[1]] * np.array([[left], [right]], np.float32)
    late = plan.latency_frames
    assert np.abs(heard[:, late:] - taken[:, : heard.shape[1] - late]).max() < 1e-6 and np.abs(taken).max() > 0.05


def test_reverb_and_echo_come_up_in_the_pauses_only(walk):
    _, session, media = walk
    for strip_id, step_id in (("reverb", "reverb-duck"), ("echo", "echo-duck")):
        depth = session.step(step_id).step.settings.depth_db
        result = ScopeRenderer(session, media, SegmentCache(), 0, harbour_walk.FRAMES).compare(Scope(strip_id, step_id))
        ticks = result.reduction_db
        said = np.concatenate([ticks[round((a + 0.3) * 750) : round(b * 750)] for a, b in harbour_walk.spoken()])
        paused = np.concatenate([ticks[round((a + 0.2) * 750) : round(b * 750)] for a, b in pauses()])
        assert np.median(said) == pytest.approx(depth, abs=0.1) and np.median(paused) < 0.5


# ---- keys in "Low Water" -----------------------------------------------------------------------------------------------


def test_a_low_key_opens_for_the_kick_alone_and_a_click_key_needs_a_threshold_far_down(tracks):
    """Key band for a drum's click 1 to 5 kHz, where the detector may need -36 to -52 dB (common practice, no source)."""
    media = Arrays(tracks["Kick"])
    kicks = [at for at, _ in demo.kick_times()]
    hats = [at for at, _, _ in demo.hat_times() if all(abs(at - kick) > 0.3 for kick in kicks)]

    def gate(**chosen):
        settings = {"detector": "rms", "attack_ms": 0.1, "hold_ms": 40.0, "release_ms": 40.0, **chosen}
        step = {"id": "g", "kind": "gate", "settings": settings}
        strip = {"id": "k", "name": "Kick", "kind": "track", "media_id": 0, "path": {"steps": [step]}}
        session = Session.model_validate(
            {"name": "K", "strips": [{"id": "main", "name": "Main", "kind": "main", "output": None}, strip]}
        )
        return ScopeRenderer(session, media, SegmentCache(), 0, demo.FRAMES).compare(Scope("k", "g"))

    def opened(result, times):
        return [bool((result.rows["gate_state"][round(t * 750) : round(t * 750) + 20] >= HOLDING).any()) for t in times]

    low = gate(threshold_db=-24.0, key_filter="low-pass", key_high_hz=150.0)
    assert all(opened(low, kicks)) and not any(opened(low, hats))
    click = {"key_filter": "band", "key_low_hz": 1000.0, "key_high_hz": 5000.0}
    usual = gate(threshold_db=-24.0, **click)
    assert not usual.rows["openings"].any()  # a threshold set by the track's meter never opens
    peaks = [usual.detector_db[round(t * 750) : round(t * 750) + 20].max() for t in kicks]
    bleed = [usual.detector_db[round(t * 750) : round(t * 750) + 20].max() for t in hats]
    # What the histogram shows: hits down to about -41 dB, hats from -52 dB on; the threshold goes between.
    between = 0.5 * float(max(bleed) + min(peaks))
    assert max(bleed) + 6 < min(peaks) and -52 < between < -36
    result = gate(threshold_db=between, **click)
    assert all(opened(result, kicks)) and not any(opened(result, hats))


def test_the_kick_ducks_the_bass_and_the_voice_its_echo(tracks):
    session = demo.build_session({name: index for index, name in enumerate(tracks)})
    media = Arrays(*tracks.values())
    chorus = demo.frames_of("Chorus")
    bass = ScopeRenderer(session, media, SegmentCache(), *chorus).compare(Scope("bass", "bass-duck"))
    hits = sum(chorus[0] <= at * RATE < chorus[1] for at, _ in demo.kick_times())
    assert bass.rows["hits"].sum() == hits and bass.reduction_db.max() == pytest.approx(6.0, abs=0.01)
    assert float((bass.reduction_db > 0.1).mean()) < 0.12  # out of the way of the hit and no more
    echo = ScopeRenderer(session, media, SegmentCache(), *chorus).compare(Scope("echo", "echo-duck"))
    assert echo.reduction_db.max() == pytest.approx(12.0, abs=0.01) and float((echo.reduction_db > 6).mean()) > 0.9
    whole = ScopeRenderer(session, media, SegmentCache(), 0, demo.FRAMES).compare(Scope("echo", "echo-duck"))
    for start, end in demo.phrase_gaps():
        if end - start > 0.6:
            assert whole.reduction_db[round((start + 0.45) * 750) : round(end * 750)].max() < 0.2


def test_the_drums_bite_in_the_bridge_and_the_clipper_is_driven_in_the_last_chorus(tracks):
    """What moves over the song sounds there and nowhere else: against the same session with its envelopes off."""
    names = list(tracks)
    session = demo.build_session({name: number for number, name in enumerate(names)})
    media = Arrays(*tracks.values())
    still = session.model_copy(update={"envelopes_off": True})

    def differs(strip, section):
        start, stop = demo.frames_of(section)
        middle = slice(RATE, stop - start - RATE)  # away from the ramps on the borders and what sounds on
        one, other = (
            np.concatenate([block[strip] for block in render_strips(held, media, start, stop, [strip])], axis=1)
            for held in (session, still)
        )
        return float(np.abs(one - other)[:, middle].max())

    assert differs("parallel", "Last chorus") > 0.01 and differs("parallel", "Bridge") == 0.0
    assert differs("drums", "Bridge") > 0.003 and differs("drums", "Verse") < 1e-4
    course = Automation(session).course(Address(of="step", id="drums-1", name="drive_db"))
    bridge, verse = (demo.frames_of(name)[0] / RATE + 3.0 for name in ("Bridge", "Verse"))
    assert course.value(bridge) - course.value(verse) == pytest.approx(0.7 * 5.0)
