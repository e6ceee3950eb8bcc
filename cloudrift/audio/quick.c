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

enum { BLOCK = 1024, TAKES = 4 }; /* frames between two knots, and takes, at most */

/* Read two takes that lie beside each other, at places and what is left of them. */
WITHIN void read_two(const float *restrict row, const int *restrict at, const float *restrict rest,
                     size n, float *restrict one, float *restrict other)
{
    for (size i = 0; i < n; i++) {
        const float *a = row + 2 * at[i];
        const float low = a[0], low_other = a[1], high = a[2], high_other = a[3];
        one[i] = low + (high - low) * rest[i];
        other[i] = low_other + (high_other - low_other) * rest[i];
    }
}

/* Read one of some takes; with a next row, in shares between both. */
WITHIN void read_one(const float *restrict row, const float *restrict next, size takes,
                     const int *restrict at, const float *restrict rest,
                     const float *restrict share, size n, float *restrict to)
{
    for (size i = 0; i < n; i++) {
        const float *a = row + takes * at[i];
        to[i] = a[0] + (a[takes] - a[0]) * rest[i];
    }
    if (next)
        for (size i = 0; i < n; i++) {
            const float *a = next + takes * at[i];
            to[i] += share[i] * (a[0] + (a[takes] - a[0]) * rest[i] - to[i]);
        }
}

WITHIN void add_at(float *restrict to, const float *restrict gain, float much,
                   const float *restrict value, size n)
{
    for (size i = 0; i < n; i++)
        to[i] += gain[i] * much * value[i];
}

/* Periods, rows of 2^(32 - fine) + 1 places with a number for each take, read by players along
 * phases that are counts of 32 bits. A player has a level that goes from knot to knot, `apart`
 * frames from each other; how far it is to the side; and a row for the middle and one for the side.
 * With a place (for each take, by knots) it reads between that many rows further on. To left and
 * right: (takes, 2, frames). */
WIDE
void read_players(const float *tables, size fine, size players, size takes, size knots, size apart,
                  size frames, uint32_t *phases, const uint32_t *steps, const float *level,
                  const float *aside, const int32_t *rows, const float *place, float *out)
{
    const size row = (((size)1 << (32 - fine)) + 1) * takes;
    const uint32_t mask = ((uint32_t)1 << fine) - 1;
    const float scale = 1.0f / (float)((uint32_t)1 << fine);
    for (size k = 0; k < knots; k++) {
        float sum[2 * TAKES][BLOCK];
        const size first = k * apart;
        const size n = frames - first < apart ? frames - first : apart;
        memset(sum, 0, sizeof sum);
        for (size p = 0; p < players; p++) {
            int at[BLOCK];
            float rest[BLOCK], gain[BLOCK], share[BLOCK], value[BLOCK], other[BLOCK];
            const int sides = aside[p] == 0.0f ? 1 : 2;
            const int32_t *own = rows + 2 * p;
            const uint32_t phase = phases[p], step = steps[p * knots + k];
            const float *l = level + p * (knots + 1) + k;
            const float from = l[0], by = (l[1] - l[0]) / (float)apart;
            for (int i = 0; i < (int)n; i++) {
                const uint32_t now = phase + (uint32_t)i * step;
                at[i] = (int)(now >> fine);
                rest[i] = (float)(int)(now & mask) * scale;
                gain[i] = from + by * (float)i;
            }
            phases[p] = phase + (uint32_t)apart * step;
            if (takes == 2 && !place) {
                for (int side = 0; side < sides; side++) {
                    const float much = side ? aside[p] : 1.0f;
                    if (side == 0 || own[1] != own[0])
                        read_two(tables + own[side] * row, at, rest, n, value, other);
                    add_at(sum[side], gain, much, value, n);
                    add_at(sum[2 + side], gain, much, other, n);
                }
                continue;
            }
            for (size t = 0; t < takes; t++) {
                size past = 0;
                int between = 0;
                if (place) {
                    const float *w = place + t * (knots + 1) + k;
                    const float on = (w[1] - w[0]) / (float)apart;
                    /* Where it passes a row within the block it goes on beyond that one. */
                    past = (size)w[0];
                    for (int i = 0; i < (int)n; i++)
                        share[i] = w[0] + on * (float)i - (float)past;
                    between = share[0] != 0.0f || on != 0.0f;
                }
                for (int side = 0; side < sides; side++) {
                    const float *low = tables + (own[side] + past) * row + t;
                    if (side == 0 || own[1] != own[0])
                        read_one(low, between ? low + row : NULL, takes, at, rest, share, n, value);
                    add_at(sum[2 * t + side], gain, side ? aside[p] : 1.0f, value, n);
                }
            }
        }
        for (size t = 0; t < takes; t++) {
            float *left = out + t * 2 * frames + first, *right = left + frames;
            for (size i = 0; i < n; i++) {
                left[i] = sum[2 * t][i] + sum[2 * t + 1][i];
                right[i] = sum[2 * t][i] - sum[2 * t + 1][i];
            }
        }
    }
}
