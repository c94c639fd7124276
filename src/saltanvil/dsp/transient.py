"""The transient shaper's kernel: gain from how far quick envelopes stand off slow ones, whatever the level.

    attack key --> |x| --> crest hold, falling peak --+--> quick ----+
                                                      +--> slow -----+--> dB between --> x attack ---+
                                                                                                     +--> gain --(x)--> out
    sustain key -> |x| --> crest hold, falling peak --+--> now ------+                               |
                                                      +--> lingering +--> dB between --> x sustain --+

Crests are held as every detector's are (`saltanvil.dsp.detector`), so that the gain stands still between those of a low note.
Envelope differences in decibels do not change with level, so neither does the gain. A gain that moves within a wave leaves
an offset; what it adds or takes is freed of what lies below 5 Hz, and only that. (The design is ours; no source.)
"""

import numpy as np

from saltanvil.dsp.detector import hold
from saltanvil.dsp.kernel import DENORMAL, TICK_FRAMES, after_tick, copy, inline, kernel, share_of
from saltanvil.dsp.logs import ONE, exp2_block, log2_block

# Target settings; those before GLIDING glide from tick to tick. Gains in dB.
(ATTACK, SUSTAIN, OUTPUT, MIX, LINK, GLIDING, FALL, QUICK, SLOW, LINGER, GLIDE, DC_PART, LONGEST, SETTINGS) = range(14)
# State: the gliding settings, those they glide from, then per channel a row of followers.
POSITION, PRIMED, HEADER = 10, 11, 12
(PEAK, QUICK_AT, SLOW_AT, SUSTAIN_PEAK, NOW_AT, LINGER_AT, OFFSET, FOLLOWERS) = range(8)
STATE = HEADER + 2 * FOLLOWERS
WORK_ROWS = 10
#: The distance between the envelopes at which attack and sustain act in full.
ATTACK_SPAN_DB, SUSTAIN_SPAN_DB = 4.0, 12.0
#: Far below any sound; it keeps the distance between two silences at nothing.
QUIET = 1e-9
DB_PER_OCTAVE = np.float32(20.0 * np.log10(2.0))
OCTAVES_PER_DB = np.float32(1.0 / (20.0 * np.log10(2.0)))
# Rows of the trace, one column a tick: loss in dB (negative where gain rises), quick, slow, now, lingering in dB.
TRACE_ROWS = 5


@inline
def envelopes(attack, sustain, follower, settings, quick, slow, now, linger, count):  # type: ignore[no-untyped-def]
    """The four envelopes of a stretch. attack, sustain: magnitudes."""
    peak, quick_at, slow_at = follower[PEAK], follower[QUICK_AT], follower[SLOW_AT]
    sustained, now_at, linger_at = follower[SUSTAIN_PEAK], follower[NOW_AT], follower[LINGER_AT]
    for i in range(count):
        peak = max(np.float64(attack[i]), peak * settings[FALL])
        quick_at = peak + (quick_at - peak) * settings[QUICK]
        slow_at = peak + (slow_at - peak) * settings[SLOW]
        sustained = max(np.float64(sustain[i]), sustained * settings[FALL])
        now_at = sustained + (now_at - sustained) * settings[QUICK]
        linger_at = max(now_at, linger_at * settings[LINGER])
        quick[i] = np.float32(quick_at + QUIET)
        slow[i] = np.float32(slow_at + QUIET)
        now[i] = np.float32(now_at + QUIET)
        linger[i] = np.float32(linger_at + QUIET)
    follower[PEAK], follower[QUICK_AT], follower[SLOW_AT] = peak, quick_at, slow_at
    follower[SUSTAIN_PEAK], follower[NOW_AT], follower[LINGER_AT] = sustained, now_at, linger_at


@kernel(
    "void(float32[:,::1],float32[:,::1],float32[:,::1],float32[:,::1],float64[::1],float64[::1],float64[:,::1],float32[:,::1],"
    "float32[:,::1])"
)
def shape(x, attack_key, sustain_key, y, settings, state, memory, trace, work):  # type: ignore[no-untyped-def]
    """Shape a block of any length.

    x, attack_key, sustain_key, y: (channels, frames). memory: from `detector_memory`, for twice the channels.
    trace: (TRACE_ROWS, a column for every tick touched), zeros. work: (WORK_ROWS, TICK_FRAMES), scratch.
    """
    channels, frames = x.shape
    now = state[:GLIDING]
    before = state[GLIDING : 2 * GLIDING]
    if state[PRIMED] == 0.0:
        copy(settings[:GLIDING], now)
        copy(settings[:GLIDING], before)
        state[PRIMED] = 1.0
    bits = work.view(np.int32)
    attack, sustain, quick, slow, here, linger = work[0], work[1], work[2], work[3], work[4], work[5]
    gain, ratio, scratch, factor = work[6], work[7], work[8], work[9]
    shift = bits[0]
    glide = settings[GLIDE]
    start = 0
    column = 0
    while start < frames:
        phase = int(state[POSITION]) % TICK_FRAMES
        if phase == 0:
            share = share_of(glide)
            glide = after_tick(glide)
            for i in range(GLIDING):
                before[i] = now[i]
                gap = settings[i] - now[i]
                now[i] = settings[i] if abs(gap) < 1e-4 else now[i] + gap * share
        count = min(TICK_FRAMES - phase, frames - start)
        for c in range(channels):
            follower = state[HEADER + c * FOLLOWERS : HEADER + (c + 1) * FOLLOWERS]
            own_attack = attack_key[c, start : start + count]
            own_sustain = sustain_key[c, start : start + count]
            for i in range(count):
                attack[i] = abs(own_attack[i])
                sustain[i] = abs(own_sustain[i])
            if channels == 2 and now[LINK] > 0.0:
                link = np.float32(now[LINK])
                other_attack = attack_key[1 - c, start : start + count]
                other_sustain = sustain_key[1 - c, start : start + count]
                for i in range(count):
                    attack[i] += link * (max(abs(other_attack[i]), attack[i]) - attack[i])
                    sustain[i] += link * (max(abs(other_sustain[i]), sustain[i]) - sustain[i])
            position = int(state[POSITION])
            hold(attack, memory[c], position, True, settings[LONGEST], 0, work[6:8], count)
            hold(sustain, memory[channels + c], position, True, settings[LONGEST], 0, work[6:8], count)
            envelopes(attack, sustain, follower, settings, quick, slow, here, linger, count)
            for i in range(count):
                ratio[i] = max(quick[i] / slow[i], ONE)
            log2_block(ratio, bits[7], scratch, bits[8], factor, count)
            for i in range(count):
                along = np.float64(phase + i + 1) / TICK_FRAMES
                amount = np.float32(before[ATTACK] + (now[ATTACK] - before[ATTACK]) * along)
                gain[i] = amount * min(factor[i] * (DB_PER_OCTAVE / np.float32(ATTACK_SPAN_DB)), ONE)
                ratio[i] = max(linger[i] / here[i], ONE)
            log2_block(ratio, bits[7], scratch, bits[8], factor, count)
            for i in range(count):
                along = np.float64(phase + i + 1) / TICK_FRAMES
                amount = np.float32(before[SUSTAIN] + (now[SUSTAIN] - before[SUSTAIN]) * along)
                gain[i] += amount * min(factor[i] * (DB_PER_OCTAVE / np.float32(SUSTAIN_SPAN_DB)), ONE)
            for i in range(count):
                if abs(gain[i]) > abs(trace[0, column]):
                    trace[0, column] = -gain[i]
            for row, envelope in enumerate((quick, slow, here, linger)):
                level = np.float32(20.0 * np.log10(envelope[count - 1]))
                trace[1 + row, column] = level if c == 0 else max(level, trace[1 + row, column])
            for i in range(count):
                ratio[i] = gain[i] * OCTAVES_PER_DB
            exp2_block(ratio, scratch, shift, factor, bits[9], count)
            signal = x[c, start : start + count]
            out = y[c, start : start + count]
            offset = follower[OFFSET]
            output_from, output_to = 10.0 ** (before[OUTPUT] / 20.0), 10.0 ** (now[OUTPUT] / 20.0)
            for i in range(count):
                along = np.float64(phase + i + 1) / TICK_FRAMES
                wet = np.float32(before[MIX] + (now[MIX] - before[MIX]) * along)
                output = np.float32(output_from + (output_to - output_from) * along)
                # What is shaped is kept free of an offset; the output's gain alone moves nothing.
                moved = signal[i] * wet * output * (factor[i] - ONE)
                offset += settings[DC_PART] * (moved - offset)
                out[i] = np.float32(signal[i] * (ONE + wet * (output - ONE)) + (moved - offset))
            follower[OFFSET] = offset
            if phase + count == TICK_FRAMES:
                for i in range(FOLLOWERS):
                    if abs(follower[i]) < DENORMAL:
                        follower[i] = 0.0
        column += 1
        start += count
        state[POSITION] += count
