"""The loops of the feedback delay network (`room.py`): one block of sound after another.

The state holds, one after another: for each ring (a side's front and its four all-passes, then the other side's, then
the lines) its head; what the lines' and the cuts' filters remember; the rings themselves, from ``offsets`` on.
"""

import numpy as np

from arkund.core.kernel import kernel

LINES = 8
QUIET = 1e-24
"""What is softer is nothing: processors are slow with numbers that are almost 0."""

SWINGING = 4
"""So many of the lines swing; the matrix hands it on to the others."""

BLOCK = 256
"""The most samples in one go."""

LEFT = (1, -1, 1, 1, 1, 1, -1, 1)
RIGHT = (1, 1, -1, 1, -1, 1, -1, -1)
"""Signs by which the lines leave to either side: orthogonal, and of all such pairs the one whose sum to mono is nearest
to the tail of one side, whichever side sound comes in from."""


@kernel(fastmath=True, error_model="numpy")
def reverberate(sound, out, state, lengths, offsets, taps, strengths, filters, values, at):  # type: ignore[no-untyped-def]
    """The reverberation of ``sound`` ``(frames, 2)`` into ``out``; the rest as `room._Plan` holds it, ``at`` the sample
    of the song with which it begins."""
    # No line is shorter than a block, so within one nothing waits for anything.
    block = min(BLOCK, int(values[8:].min() - values[6]) - 4)
    pre, early, swing, step = int(values[0]), values[1], values[6], values[7]
    past = state[len(lengths) : len(lengths) + 4 * LINES]
    cuts = state[len(lengths) + 4 * LINES : len(lengths) + 4 * LINES + 8]
    every, soon, wet = np.empty((2, block)), np.empty((2, block)), np.empty((2, block))
    late, spare = np.empty((LINES, block)), np.empty(2 * block + 8)
    turns = step * np.arange(block)
    cosines, sines = swing * np.cos(turns), swing * np.sin(turns)
    for begin in range(0, len(sound), block):
        count = min(block, len(sound) - begin)
        for side in range(2):
            here, ring = every[side, :count], 5 * side
            for t in range(count):
                here[t] = sound[begin + t, side]
            into = _ring(state, ring, lengths, offsets)
            head = int(state[ring])
            _put(into, head, here)
            soon[side] = 0.0
            if early > 0.0:
                for tap in range(taps.shape[1]):
                    gain = early * strengths[side, tap]
                    _add(into, head - taps[side, tap], gain, soon[side, :count])
            here[:] = 0.0
            _add(into, head - pre, 1.0, here)
            state[ring] = (head + count) % len(into)
            for n in range(4):
                _diffuse(state, ring + 1 + n, lengths, offsets, strengths[2, n], here)
        for n in range(LINES):
            line, head = _ring(state, 10 + n, lengths, offsets), int(state[10 + n])
            here = late[n, :count]
            if swing > 0.0 and n < SWINGING:
                # The angle goes on with the song, whichever blocks it comes in.
                angle = step * (at + begin) + 1.570796 * n
                backs = spare[:count]
                backs[:] = np.sin(angle) * cosines[:count] + np.cos(angle) * sines[:count]
                backs += values[8 + n] + swing
                _swing(line, head, backs, here, spare[count : 2 * count + 8])
            else:
                here[:] = 0.0
                _add(line, head - int(values[8 + n]), 1.0, here)
            if n % 2:
                before, pair = late[n - 1, :count], past[4 * n - 4 : 4 * n + 4]
                _lose(before, here, filters[:, n - 1], filters[:, n], pair)
        _feed_back(late[:, :count], every[:, :count], wet[:, :count])
        for n in range(LINES):
            line, head = _ring(state, 10 + n, lengths, offsets), int(state[10 + n])
            _hush(late[n, :count])
            _put(line, head, late[n, :count])
            state[10 + n] = (head + count) % len(line)
        _widen(wet[:, :count], soon[:, :count], 0.5 * values[2], values[3])
        _cut(wet[:, :count], values[4], values[5], cuts, out[begin : begin + count])


@kernel(fastmath=True, error_model="numpy")
def _ring(state, number, lengths, offsets):  # type: ignore[no-untyped-def]
    return state[offsets[number] : offsets[number] + lengths[number]]


@kernel(fastmath=True, error_model="numpy")
def _put(ring, place, sound):  # type: ignore[no-untyped-def]
    """Sound into a ring, from ``place`` on."""
    straight = min(len(ring) - place, len(sound))
    ring[place : place + straight] = sound[:straight]
    ring[: len(sound) - straight] = sound[straight:]


@kernel(fastmath=True, error_model="numpy")
def _add(ring, place, gain, into):  # type: ignore[no-untyped-def]
    """Add a ring's sound from ``place`` on, times a gain, to a row."""
    if place < 0:
        place += len(ring)
    straight = min(len(ring) - place, len(into))
    # Slices, not sums of places: where a place may be negative, loops are not done several samples at a time.
    _add_straight(ring[place : place + straight], gain, into[:straight])
    _add_straight(ring[: len(into) - straight], gain, into[straight:])


@kernel(fastmath=True, error_model="numpy")
def _add_straight(some, gain, into):  # type: ignore[no-untyped-def]
    for t in range(len(into)):
        into[t] += gain * some[t]


@kernel(fastmath=True, error_model="numpy")
def _diffuse(state, number, lengths, offsets, gain, sound):  # type: ignore[no-untyped-def]
    """Sound through an all-pass whose ring is as long as its delay."""
    ring, head, done = _ring(state, number, lengths, offsets), int(state[number]), 0
    while done < len(sound):
        # Up to the ring's end, nothing waits for anything.
        straight = min(len(ring) - head, len(sound) - done)
        _pass(ring[head : head + straight], gain, sound[done : done + straight])
        head, done = (head + straight) % len(ring), done + straight
    state[number] = head


@kernel(fastmath=True, error_model="numpy")
def _pass(ring, gain, sound):  # type: ignore[no-untyped-def]
    for t in range(len(sound)):
        old = ring[t]
        new = sound[t] + gain * old
        sound[t] = old - gain * new
        ring[t] = new if abs(new) > QUIET else 0.0


@kernel(fastmath=True, error_model="numpy")
def _swing(line, head, backs, into, near):  # type: ignore[no-untyped-def]
    """What comes out of a line that swings, by Lagrange's cubic through four samples: a straight line between two
    would dull the highs."""
    first = int(backs.max()) + 2
    place = (head - first) % len(line)
    straight = min(len(line) - place, len(near))
    near[:straight] = line[place : place + straight]
    near[straight:] = line[: len(near) - straight]
    whole = int(backs[0])
    if whole == int(backs.min()) and whole == int(backs.max()):
        _between(near[first - whole - 2 :], backs, float(whole), into)
        return
    for t in range(len(into)):
        whole = int(backs[t])
        _between(near[t + first - whole - 2 :], backs[t : t + 1], float(whole), into[t : t + 1])


@kernel(fastmath=True, error_model="numpy")
def _between(near, backs, whole, into):  # type: ignore[no-untyped-def]
    """Each sample from four neighbours, ``near`` beginning with the oldest of the first."""
    for t in range(len(into)):
        p = backs[t] - whole
        p1, p2, p3 = p + 1, p - 1, p - 2
        into[t] = (
            p1 * p2 * p3 / 2 * near[t + 2]
            - p1 * p * p3 / 2 * near[t + 1]
            + p1 * p * p2 / 6 * near[t]
            - p * p2 * p3 / 6 * near[t + 3]
        )


@kernel(fastmath=True, error_model="numpy")
def _lose(a, b, f, g, past):  # type: ignore[no-untyped-def]
    """What two lines lose, a gain and two shelves each: while one waits for its own last sample, the other goes on."""
    f0, f1, f2, f3, f4, f5, f6 = f[0], f[1], f[2], f[3], f[4], f[5], f[6]
    g0, g1, g2, g3, g4, g5, g6 = g[0], g[1], g[2], g[3], g[4], g[5], g[6]
    x1, y1, y2, u1, v1, v2 = past[0], past[1], past[2], past[4], past[5], past[6]
    for t in range(len(a)):
        x, u = a[t] * f0, b[t] * g0
        low = f1 * x + f2 * x1 - f3 * y1
        dull = g1 * u + g2 * u1 - g3 * v1
        high = f4 * low + f5 * y1 - f6 * y2
        bright = g4 * dull + g5 * v1 - g6 * v2
        x1, y1, y2, a[t] = x, low, high, high
        u1, v1, v2, b[t] = u, dull, bright, bright
    past[0], past[1], past[2], past[4], past[5], past[6] = x1, y1, y2, u1, v1, v2


@kernel(fastmath=True, error_model="numpy")
def _feed_back(late, every, wet):  # type: ignore[no-untyped-def]
    """Both sides out of the lines, and the lines into each other with what comes in."""
    for t in range(late.shape[1]):
        p0, p1, p2, p3 = late[0, t], late[1, t], late[2, t], late[3, t]
        p4, p5, p6, p7 = late[4, t], late[5, t], late[6, t], late[7, t]
        wet[0, t] = (
            LEFT[0] * p0
            + LEFT[1] * p1
            + LEFT[2] * p2
            + LEFT[3] * p3
            + LEFT[4] * p4
            + LEFT[5] * p5
            + LEFT[6] * p6
            + LEFT[7] * p7
        )
        wet[1, t] = (
            RIGHT[0] * p0
            + RIGHT[1] * p1
            + RIGHT[2] * p2
            + RIGHT[3] * p3
            + RIGHT[4] * p4
            + RIGHT[5] * p5
            + RIGHT[6] * p6
            + RIGHT[7] * p7
        )
        # Hadamard: sums and differences in three rounds.
        q0, q1, q2, q3 = p0 + p4, p1 + p5, p2 + p6, p3 + p7
        q4, q5, q6, q7 = p0 - p4, p1 - p5, p2 - p6, p3 - p7
        p0, p1, p2, p3 = q0 + q2, q1 + q3, q0 - q2, q1 - q3
        p4, p5, p6, p7 = q4 + q6, q5 + q7, q4 - q6, q5 - q7
        in_l, in_r, g = every[0, t], every[1, t], 0.35355339059327373
        late[0, t], late[1, t] = g * (p0 + p1) + in_l, g * (p0 - p1) + in_r
        late[2, t], late[3, t] = g * (p2 + p3) + in_l, g * (p2 - p3) + in_r
        late[4, t], late[5, t] = g * (p4 + p5) + in_l, g * (p4 - p5) + in_r
        late[6, t], late[7, t] = g * (p6 + p7) + in_l, g * (p6 - p7) + in_r


@kernel(fastmath=True, error_model="numpy")
def _hush(sound):  # type: ignore[no-untyped-def]
    for t in range(len(sound)):
        sound[t] = sound[t] if abs(sound[t]) > QUIET else 0.0


@kernel(fastmath=True, error_model="numpy")
def _widen(wet, soon, level, width):  # type: ignore[no-untyped-def]
    """Tail and early reflections together, as wide as is wanted."""
    for t in range(wet.shape[1]):
        left, right = level * wet[0, t] + soon[0, t], level * wet[1, t] + soon[1, t]
        middle, apart = 0.5 * (left + right), 0.5 * width * (left - right)
        wet[0, t], wet[1, t] = middle + apart, middle - apart


@kernel(fastmath=True, error_model="numpy")
def _cut(wet, low, high, past, out):  # type: ignore[no-untyped-def]
    """Lows and highs cut, one pole twice over, both sides at a time: each waits for its own last sample."""
    a, b, c, d = past[0], past[1], past[2], past[3]
    e, f, g, h = past[4], past[5], past[6], past[7]
    for t in range(len(out)):
        a += low * (wet[0, t] - a)
        e += low * (wet[1, t] - e)
        b += high * (wet[0, t] - a - b)
        f += high * (wet[1, t] - e - f)
        c += low * (b - c)
        g += low * (f - g)
        d += high * (b - c - d)
        h += high * (f - g - h)
        out[t, 0], out[t, 1] = d, h
    past[0], past[1], past[2], past[3] = a, b, c, d
    past[4], past[5], past[6], past[7] = e, f, g, h
