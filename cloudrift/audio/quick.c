/* The inner loops that NumPy needs many passes for. Each does what the Python beside its caller
 * does, step by step and in the same order, in single precision where that does. Built without
 * contraction or unsafe mathematics, so that both agree. */

#include <math.h>
#include <stddef.h>
#include <stdint.h>
#include <string.h>

typedef ptrdiff_t size;

enum { PIECE = 512 }; /* worked on at once: it stays in the processor's nearest cache */

static size wrapped(size at, size n)
{
    while (at < 0)
        at += n;
    while (at >= n)
        at -= n;
    return at;
}

/* The values of a cubic B-spline through a loop (channels, n): (channels, n), wrapped. */
void spline_of(const float *audio, size stride, size channels, size n, float *out, size out_stride)
{
    const double pole = sqrt(3.0) - 2.0;
    const size far = 48; /* the pole has died away there, far below single precision */
    for (size c = 0; c < channels; c++) {
        const float *in = audio + c * stride;
        float *to = out + c * out_stride;
        double sum = 0.0, power = 1.0;
        for (size k = 0; k < far; k++, power *= pole)
            sum += power * in[wrapped(-k, n)];
        double last = 6.0 * sum;
        to[0] = (float)last;
        for (size i = 1; i < n; i++) {
            last = 6.0 * in[i] + pole * last;
            to[i] = (float)last;
        }
        sum = 0.0;
        power = pole;
        for (size k = 0; k < far; k++, power *= pole)
            sum -= power * to[wrapped(n - 1 + k, n)];
        last = sum;
        to[n - 1] = (float)last;
        for (size i = n - 2; i >= 0; i--) {
            last = pole * (last - to[i]);
            to[i] = (float)last;
        }
    }
}

/* Read splines at frame i + away[i % period] for i from start on; at places modulo n, or as they
 * are where n is 0. Place p is read from values p to p + 3. */
void read_spline(const float *spline, size stride, size channels, size n, const float *away,
                 size period, size start, size count, float *out)
{
    const float third = (float)(2.0 / 3.0);
    int whole[PIECE];
    size place[PIECE];
    float w0[PIECE], w1[PIECE], w2[PIECE], w3[PIECE];
    for (size done = 0, in_period = 0; done < count;) {
        size here = count - done < PIECE ? count - done : PIECE;
        if (here > period - in_period)
            here = period - in_period;
        const float *from = away + in_period;
        for (size i = 0; i < here; i++) {
            const int down = (int)from[i];
            whole[i] = down - ((float)down > from[i]);
            const float f = from[i] - (float)whole[i], g = 1.0f - f;
            w0[i] = g * g * g / 6.0f;
            w1[i] = third - f * f * (1.0f - f / 2.0f);
            w2[i] = third - g * g * (1.0f - g / 2.0f);
            w3[i] = f * f * f / 6.0f;
        }
        for (size i = 0; i < here; i++) {
            const size at = start + done + i + whole[i];
            place[i] = n ? wrapped(at, n) : at;
        }
        for (size c = 0; c < channels; c++) {
            const float *values = spline + c * stride;
            float *restrict to = out + c * count + done;
            for (size i = 0; i < here; i++) {
                const float *v = values + place[i];
                to[i] = v[0] * w0[i] + v[1] * w1[i] + v[2] * w2[i] + v[3] * w3[i];
            }
        }
        done += here;
        in_period += here;
        if (in_period == period)
            in_period = 0;
    }
}

/* A soft and a hard sound in their shares: (channels, count). bright_step is 0 for one share. */
void blend(const float *soft, size soft_stride, const float *hard, size hard_stride,
           const float *level, const float *bright, size bright_step, size channels, size count,
           float *out)
{
    for (size c = 0; c < channels; c++) {
        const float *s = soft + c * soft_stride, *h = hard + c * hard_stride;
        float *to = out + c * count;
        if (bright_step)
            for (size i = 0; i < count; i++) {
                const float share = level[i] * bright[i];
                to[i] = h[i] * share + s[i] * (level[i] - share);
            }
        else
            for (size i = 0; i < count; i++) {
                const float share = level[i] * bright[0];
                to[i] = h[i] * share + s[i] * (level[i] - share);
            }
    }
}

/* So much of one and so much of another, in the place of the first. */
void mix(float *wet, const float *dry, float share, float rest, size count)
{
    for (size i = 0; i < count; i++)
        wet[i] = wet[i] * share + dry[i] * rest;
}

/* x / sqrt(1 + x^2), averaged between neighbours, in place: rows of so many frames. */
void soften(float *rows, size count, size frames)
{
    float x[PIECE + 1], root[PIECE + 1];
    for (size r = 0; r < count; r++) {
        float *row = rows + r * frames;
        float last = 0.0f, last_root = 0.0f;
        for (size at = 0; at < frames; at += PIECE) {
            const size here = frames - at < PIECE ? frames - at : PIECE;
            x[0] = last;
            root[0] = last_root;
            for (size i = 0; i < here; i++) {
                x[i + 1] = row[at + i];
                root[i + 1] = sqrtf(1.0f + row[at + i] * row[at + i]);
            }
            last = x[here];
            last_root = root[here];
            for (size i = 0; i < here; i++)
                row[at + i] = (x[i + 1] + x[i]) / (root[i + 1] + root[i]);
        }
    }
}

/* Both sides of a spectrum through the two sides of a space, each hearing a share of the other:
 * complex numbers as pairs, (2, bins) each. */
void through_space(const float *spectrum, const float *sides, size bins, float near, float far,
                   float *out)
{
    const float *left = spectrum, *right = spectrum + 2 * bins;
    const float *hl = sides, *hr = sides + 2 * bins;
    float *to_left = out, *to_right = out + 2 * bins;
    for (size k = 0; k < 2 * bins; k += 2) {
        const float lr = near * left[k] + far * right[k],
                    li = near * left[k + 1] + far * right[k + 1],
                    rr = far * left[k] + near * right[k],
                    ri = far * left[k + 1] + near * right[k + 1];
        to_left[k] = lr * hl[k] - li * hl[k + 1];
        to_left[k + 1] = lr * hl[k + 1] + li * hl[k];
        to_right[k] = rr * hr[k] - ri * hr[k + 1];
        to_right[k + 1] = rr * hr[k + 1] + ri * hr[k];
    }
}

/* Repeats of a loop (2, n) in its steady state, each through a pole that darkens it and one that
 * thins it out; ring (2, delay) is room for what is on its way. Across: the first repeat of both
 * sides' middle comes on the left, and each one after changes sides. `lead` frames of the loop's
 * own end are run through first, until what was before them has died away. */
void repeats(const float *audio, size stride, size n, size delay, size lead, double dark,
             double thin, double feedback, int across, float *ring, float *out)
{
    const double in_dark = 1.0 - dark, in_thin = (1.0 + thin) / 2.0;
    const float *one = audio, *other = audio + stride;
    float *left = ring, *right = ring + delay;
    double a0 = 0.0, b0 = 0.0, a1 = 0.0, b1 = 0.0;
    size from = ((-lead) % n + n) % n, at = 0;
    for (size i = 0; i < 2 * delay; i++)
        ring[i] = 0.0f;
    for (size t = -lead; t < n; t++) {
        const double y0 = left[at], y1 = right[at];
        if (t >= 0) {
            out[t] = (float)y0;
            out[n + t] = (float)y1;
        }
        double v0, v1;
        if (across) {
            v0 = 0.5 * ((double)one[from] + other[from]) + feedback * y1;
            v1 = feedback * y0;
        } else {
            v0 = one[from] + feedback * y0;
            v1 = other[from] + feedback * y1;
        }
        const double c0 = in_dark * v0 + dark * a0, c1 = in_dark * v1 + dark * a1;
        b0 = in_thin * (c0 - a0) + thin * b0;
        b1 = in_thin * (c1 - a1) + thin * b1;
        a0 = c0;
        a1 = c1;
        left[at] = (float)b0;
        right[at] = (float)b1;
        if (++at == delay)
            at = 0;
        if (++from == n)
            from = 0;
    }
}

typedef double Pair __attribute__((vector_size(16)));

/* A biquad as six numbers: numerator and denominator, from no delay on; the fourth is 1. */
static inline Pair biquad(const double *of, Pair in, Pair *states)
{
    const Pair out = of[0] * in + states[0];
    states[0] = of[1] * in - of[4] * out + states[1];
    states[1] = of[2] * in - of[5] * out;
    return out;
}

/* The power of both sides of a loop (2, n) behind two biquads in their steady state. `lead` frames
 * of the loop's own end are run through first. */
void weighted_power(const float *audio, size stride, size n, size lead, const double *sections,
                    float *out)
{
    const float *one = audio, *other = audio + stride;
    Pair states[4] = {{0.0}};
    size from = ((-lead) % n + n) % n;
    for (size i = -lead; i < n; i++) {
        const Pair in = {one[from], other[from]};
        const Pair y = biquad(sections + 6, biquad(sections, in, states), states + 2);
        if (i >= 0)
            out[i] = (float)(y[0] * y[0] + y[1] * y[1]);
        if (++from == n)
            from = 0;
    }
}

/* Compiled twice where that is known: for processors with wide registers, and for all. */
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__)
#define WIDE __attribute__((target_clones("avx2", "default")))
#else
#define WIDE
#endif
#if defined(__GNUC__)
#define WITHIN static inline __attribute__((always_inline))
#else
#define WITHIN static inline
#endif

enum { BLOCK = 1024, TAKES = 2, LANES = 4 }; /* frames between two knots, and takes, at most */
typedef float Four __attribute__((vector_size(16)));
typedef int32_t Order __attribute__((vector_size(16)));
#if defined(__clang__)
#define PICKED(a, b, i, j, k, l) __builtin_shufflevector(a, b, i, j, k, l)
#else
#define PICKED(a, b, i, j, k, l) __builtin_shuffle(a, b, (Order){i, j, k, l})
#endif

WITHIN Four loaded(const float *from)
{
    Four value;
    memcpy(&value, from, sizeof value);
    return value;
}

WITHIN void add_to(float *to, Four value)
{
    value += loaded(to);
    memcpy(to, &value, sizeof value);
}

WITHIN double pair_at(const float *from)
{
    double pair;
    memcpy(&pair, from, sizeof pair);
    return pair;
}

/* A row read at places and what is left of them: four frames of one take, or two of two takes that
 * lie beside each other. */
WITHIN Four read_at(const float *row, int takes, const int *at, Four rest)
{
    Four low, high;
    if (takes == 2) {
        const Four a = loaded(row + 2 * at[0]), b = loaded(row + 2 * at[1]);
        low = PICKED(a, b, 0, 1, 4, 5);
        high = PICKED(a, b, 2, 3, 6, 7);
    } else {
        const Pair ab = {pair_at(row + at[0]), pair_at(row + at[1])},
                   cd = {pair_at(row + at[2]), pair_at(row + at[3])};
        low = PICKED((Four)ab, (Four)cd, 0, 2, 4, 6);
        high = PICKED((Four)ab, (Four)cd, 1, 3, 5, 7);
    }
    return low + (high - low) * rest;
}

/* Numbers of some frames, as often as there are takes. */
WITHIN Four each_take(const float *of, int takes)
{
    if (takes == 2)
        return (Four){of[0], of[0], of[1], of[1]};
    return loaded(of);
}

/* Where a player reads in a block, and how loud and how far between two rows it is there. */
typedef struct {
    int at[BLOCK];
    float rest[BLOCK], gain[BLOCK], share[BLOCK];
} Way;

/* Add what a player reads to the middle and to the side. `moving`: between a row and the next;
 * `sides`: none, what the middle reads, or a row of its own. */
WITHIN void add_player(const Way *way, size n, int takes, int moving, int sides, const float *row,
                       const float *side_row, size next, float aside, float *restrict middle,
                       float *restrict side)
{
    const int frames = LANES / takes;
    for (size i = 0; i < n; i += frames) {
        const int *at = way->at + i;
        const Four rest = each_take(way->rest + i, takes), gain = each_take(way->gain + i, takes);
        Four share, value = read_at(row, takes, at, rest);
        if (moving) {
            share = each_take(way->share + i, takes);
            value += share * (read_at(row + next, takes, at, rest) - value);
        }
        value *= gain;
        add_to(middle + takes * i, value);
        if (sides == 2) {
            value = read_at(side_row, takes, at, rest);
            if (moving)
                value += share * (read_at(side_row + next, takes, at, rest) - value);
            value *= gain;
        }
        if (sides)
            add_to(side + takes * i, aside * value);
    }
}

/* The same with what is known of it beforehand, so that each is a loop of its own. */
#define ADD_PLAYER(takes, moving, sides)                                                           \
    add_player(&way, n, takes, moving, sides, low, low_side, row, aside[p], middle, side)
#define ADD_BY_SIDES(takes, moving)                                                                \
    (sides == 0   ? ADD_PLAYER(takes, moving, 0)                                                   \
     : sides == 1 ? ADD_PLAYER(takes, moving, 1)                                                   \
                  : ADD_PLAYER(takes, moving, 2))

/* Periods, rows of 2^(32 - fine) + 1 places with a number for each take, read by players along
 * phases that are counts of 32 bits. A player has a level that goes from knot to knot, `apart`
 * frames from each other; how far it is to the side; and a row for the middle and one for the side.
 * With a place (by knots) all read between that many rows further on. To left and right:
 * (takes, 2, frames); takes are one or two. */
WIDE
void read_players(const float *tables, size fine, size players, size takes, size knots, size apart,
                  size frames, uint32_t *phases, const uint32_t *steps, const float *level,
                  const float *aside, const int32_t *rows, const float *place, float *out)
{
    const size row = (((size)1 << (32 - fine)) + 1) * takes;
    const uint32_t mask = ((uint32_t)1 << fine) - 1;
    const float scale = 1.0f / (float)((uint32_t)1 << fine);
    Way way;
    for (size k = 0; k < knots; k++) {
        float middle[TAKES * BLOCK], side[TAKES * BLOCK];
        const size first = k * apart;
        const size wanted = frames - first < apart ? frames - first : apart;
        const size n = (wanted + LANES - 1) / LANES * LANES; /* a few more, that nobody hears */
        size past = 0;
        int moving = 0;
        memset(middle, 0, takes * n * sizeof *middle);
        memset(side, 0, takes * n * sizeof *side);
        if (place) {
            const float *w = place + k;
            const float on = (w[1] - w[0]) / (float)apart;
            past = (size)w[0]; /* where it passes a row within the block it goes on beyond that */
            for (int i = 0; i < (int)n; i++)
                way.share[i] = w[0] + on * (float)i - (float)past;
            moving = way.share[0] != 0.0f || on != 0.0f;
        }
        for (size p = 0; p < players; p++) {
            const int32_t *own = rows + 2 * p;
            const float *low = tables + (own[0] + past) * row,
                        *low_side = tables + (own[1] + past) * row;
            const int sides = aside[p] == 0.0f ? 0 : own[1] == own[0] ? 1 : 2;
            const uint32_t phase = phases[p], step = steps[p * knots + k];
            const float *l = level + p * (knots + 1) + k;
            const float from = l[0], by = (l[1] - l[0]) / (float)apart;
            for (int i = 0; i < (int)n; i++) {
                const uint32_t now = phase + (uint32_t)i * step;
                way.at[i] = (int)(now >> fine);
                way.rest[i] = (float)(int)(now & mask) * scale;
                way.gain[i] = from + by * (float)i;
            }
            phases[p] = phase + (uint32_t)apart * step;
            if (takes == 2)
                moving ? ADD_BY_SIDES(2, 1) : ADD_BY_SIDES(2, 0);
            else
                moving ? ADD_BY_SIDES(1, 1) : ADD_BY_SIDES(1, 0);
        }
        for (size t = 0; t < takes; t++) {
            float *left = out + t * 2 * frames + first, *right = left + frames;
            for (size i = 0; i < wanted; i++) {
                left[i] = middle[takes * i + t] + side[takes * i + t];
                right[i] = middle[takes * i + t] - side[takes * i + t];
            }
        }
    }
}
