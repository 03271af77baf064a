/* Marks of the firmware of "@TITLE@", made by tachys marks
 * from @MODEL@. Format @FORMAT@, model @DIGEST@.
 *
 * Without TACHYS_ON every mark compiles to nothing. With it, a mark is a word in a ring in memory: which (8 bits) and
 * when (@BITS@ bits of a counter). It takes no memory from a heap and no library.
 *
 *   1. In one C file: #define TACHYS_HERE before this header is included: the ring lives there.
 *   2. Write the three functions below: they are all that depends on the core. Call tachys_start() once they work.
 *   3. TACHYS_ENTER(isr_x) as the first, TACHYS_LEAVE(isr_x) as the last statement of a routine or a step.
 *   4. From the loop, or from a least urgent interrupt, and at least @TURNS@ times a second:
 *          uint8_t frame[TACHYS_FRAME];
 *          size_t size = tachys_drain(frame);      0: nothing is due
 *      and send so many bytes over any serial line. tachys record reads them.
 *
 * Or, as a flight recorder, with TACHYS_KEEP_LAST: nothing is drained, the oldest marks are overwritten. Call
 * TACHYS_ALIVE() from something that comes at least @TURNS@ times a second. Dump the memory after the fault;
 * tachys convert reads the dump.
 *
 * A core with a 32-bit cycle counter and a register that masks interrupts, in a port.h:
 *   static inline uint32_t tachys_count(void) { return *(volatile uint32_t *)CYCLES; }
 *   static inline uint32_t tachys_lock(void) { uint32_t m = get_mask(); set_mask(1u); return m; }
 *   static inline void tachys_restore(uint32_t m) { set_mask(m); }
 * A core with a 16-bit timer that runs freely, of which TACHYS_COUNT_BITS is then 16 and TACHYS_COUNT_HZ its rate:
 *   static inline uint32_t tachys_count(void) { return TIMER; }
 *   static inline uint32_t tachys_lock(void) { uint32_t m = STATUS; disable_interrupts(); return m; }
 *   static inline void tachys_restore(uint32_t m) { STATUS = (uint8_t)m; }
 * and -DTACHYS_PORT='"port.h"'. Without TACHYS_PORT they are functions that are linked.
 */
#ifndef TACHYS_MARKS_H
#define TACHYS_MARKS_H

#ifndef TACHYS_ON

#define TACHYS_ENTER(name) ((void)0)
#define TACHYS_LEAVE(name) ((void)0)
#define TACHYS_MARK(name) ((void)0)
#define TACHYS_VALUE(name, value) ((void)0)
#define TACHYS_ALIVE() ((void)0)
#define tachys_start() ((void)0)

#else

#include <stddef.h>
#include <stdint.h>

#ifndef TACHYS_COUNT_HZ
#define TACHYS_COUNT_HZ @HZ@ /* how fast the counter counts */
#endif
#ifndef TACHYS_COUNT_BITS
#define TACHYS_COUNT_BITS 24 /* how many bits of it are used: 24 or 16 */
#endif
#ifndef TACHYS_WORDS
#define TACHYS_WORDS 512 /* of the ring: a power of two */
#endif

#ifdef TACHYS_PORT
#include TACHYS_PORT
#else
uint32_t tachys_count(void);
uint32_t tachys_lock(void);         /* the mask as it was; no interrupt comes from here on */
void tachys_restore(uint32_t mask); /* as it was */
#endif

/* names[] of the model; the leave of a routine or a step is its number + 1 */
enum {
    TACHYS_CODE_ALIVE = 0,
    TACHYS_CODE_LOST = 1,
    TACHYS_CODE_DATA = 2@CODES@
};

#define TACHYS_COUNTS ((uint32_t)0xFFFFFFu >> (24 - TACHYS_COUNT_BITS))
#define TACHYS_PAYLOAD 120                    /* bytes of a frame at most, before they are packed */
#define TACHYS_ENOUGH (TACHYS_WORDS >= 192 ? 48u : TACHYS_WORDS / 4u) /* words, for which a frame is sent at once */
#define TACHYS_FRAME (2 * TACHYS_PAYLOAD + 6) /* and after that */

typedef char tachys_words_is_a_power_of_two[(TACHYS_WORDS & (TACHYS_WORDS - 1)) == 0 && TACHYS_WORDS >= 8 ? 1 : -1];

struct tachys_record {
    uint8_t magic[8];
    uint32_t format, model, words, bits, hz;
    uint32_t cost;                      /* of 100 marks, in counts */
    uint32_t keeps;                     /* 1: the last marks are kept, and nothing is drained */
    volatile uint32_t head, tail, lost; /* words written and drained; marks dropped that were not told yet */
    volatile uint32_t ring[TACHYS_WORDS];
};
extern struct tachys_record tachys_record;

#define TACHYS_ENTER(name) tachys_put(TACHYS_##name)
#define TACHYS_LEAVE(name) tachys_put(TACHYS_##name + 1)
#define TACHYS_MARK(name) tachys_put(TACHYS_##name)
#define TACHYS_VALUE(name, value) tachys_put_value(TACHYS_##name, (uint32_t)(value)) /* 24 bits of it */
#define TACHYS_ALIVE() tachys_put(TACHYS_CODE_ALIVE)

static inline void tachys_word(uint32_t code, uint32_t rest)
{
    uint32_t head = tachys_record.head;
    tachys_record.ring[head & (TACHYS_WORDS - 1)] = code << 24 | rest;
    tachys_record.head = head + 1u;
}

/* Slot, count and head are taken in one locked piece: else one that comes between them is lost without a trace. */
static inline void tachys_write(uint32_t code, int has_data, uint32_t data)
{
    uint32_t mask = tachys_lock();
    uint32_t now = tachys_count() & TACHYS_COUNTS;
#ifndef TACHYS_KEEP_LAST
    uint32_t due = 1u + (uint32_t)has_data, lost = tachys_record.lost;
    uint32_t room = TACHYS_WORDS - (tachys_record.head - tachys_record.tail);
    if (lost != 0u && room >= 2u + due) {
        tachys_word(TACHYS_CODE_LOST, now);
        tachys_word(TACHYS_CODE_DATA, lost < 0xFFFFFFu ? lost : 0xFFFFFFu);
        tachys_record.lost = lost = 0u;
        room -= 2u;
    }
    if (lost != 0u || room < due) { /* the newest is dropped, and counted unless it tells nothing */
        tachys_record.lost = lost + (code != TACHYS_CODE_ALIVE);
        tachys_restore(mask);
        return;
    }
#endif
    tachys_word(code, now);
    if (has_data)
        tachys_word(TACHYS_CODE_DATA, data & 0xFFFFFFu);
    tachys_restore(mask);
}

static inline void tachys_put(uint32_t code)
{
    tachys_write(code, 0, 0u);
}

static inline void tachys_put_value(uint32_t code, uint32_t value)
{
    tachys_write(code, 1, value);
}

void tachys_start(void);
#ifndef TACHYS_KEEP_LAST
size_t tachys_drain(uint8_t *frame);
#endif

#ifdef TACHYS_HERE

struct tachys_record tachys_record = {
    {'T', 'A', 'C', 'H', 'Y', 'S', 13, 10}, @FORMAT@, 0x@DIGEST@u, TACHYS_WORDS,
    TACHYS_COUNT_BITS, TACHYS_COUNT_HZ, 0, 0, 0, 0, 0, {0}};

#ifndef TACHYS_KEEP_LAST
static struct {
    uint32_t time;     /* of the last word drained, in counts, unrolled */
    uint32_t sent;     /* that of the last frame */
    uint16_t sequence;
    uint8_t fill;      /* the fullest that the ring was found, in 255ths */
    uint8_t begun;
} tachys_line;
#endif

/* Measure what a mark takes, and begin. */
void tachys_start(void)
{
    uint32_t mask = tachys_lock(), began, number;
    tachys_record.head = tachys_record.tail = tachys_record.lost = 0u;
    began = tachys_count();
    for (number = 0u; number < 100u; number++) {
        tachys_put(TACHYS_CODE_ALIVE);
        tachys_record.tail = tachys_record.head;
    }
    tachys_record.cost = (tachys_count() - began) & TACHYS_COUNTS;
    tachys_record.head = tachys_record.tail = 0u;
#ifdef TACHYS_KEEP_LAST
    tachys_record.keeps = 1u;
#else
    tachys_line.time = tachys_line.sent = tachys_count() & TACHYS_COUNTS;
    tachys_line.sequence = 0u;
    tachys_line.begun = 0u;
#endif
    tachys_restore(mask);
    TACHYS_ALIVE();
}

#ifndef TACHYS_KEEP_LAST

/* Low bits first: 6 in each byte but the last, of which bit 7 says that more follow, and 7 in that. So none is one that
 * SLIP must write as two. */
static size_t tachys_number(uint8_t *to, uint32_t value)
{
    size_t size = 0;
    while (value > 0x7Fu) {
        to[size++] = (uint8_t)(0x80u | (value & 0x3Fu));
        value >>= 6;
    }
    to[size++] = (uint8_t)value;
    return size;
}

static size_t tachys_four(uint8_t *to, uint32_t value)
{
    size_t place;
    for (place = 0; place < 4; place++)
        to[place] = (uint8_t)(value >> (8 * place));
    return 4;
}

static uint16_t tachys_crc(const uint8_t *from, size_t size) /* CRC-16, x^16 + x^12 + x^5 + 1, begun with ones */
{
    uint16_t crc = 0xFFFFu;
    int bit;
    while (size-- > 0) {
        crc = (uint16_t)(crc ^ (uint16_t)((uint16_t)*from++ << 8));
        for (bit = 0; bit < 8; bit++)
            crc = (uint16_t)(((uint32_t)crc << 1) ^ ((crc & 0x8000u) ? 0x1021u : 0u));
    }
    return crc;
}

static size_t tachys_pack(uint8_t *frame, uint8_t *raw, size_t size) /* checksum, and SLIP (RFC 1055) */
{
    uint16_t crc = tachys_crc(raw, size);
    size_t place, end = 0;
    raw[size++] = (uint8_t)crc;
    raw[size++] = (uint8_t)(crc >> 8);
    frame[end++] = 0xC0;
    for (place = 0; place < size; place++) {
        uint8_t byte = raw[place];
        if (byte == 0xC0 || byte == 0xDB) {
            frame[end++] = 0xDB;
            byte = byte == 0xC0 ? 0xDC : 0xDD;
        }
        frame[end++] = byte;
    }
    frame[end++] = 0xC0;
    return end;
}

/* The next frame to send, and its size; 0: nothing is due. Only one place calls it. */
size_t tachys_drain(uint8_t *frame)
{
    uint8_t raw[TACHYS_PAYLOAD + 2];
    uint32_t mask = tachys_lock(), head = tachys_record.head, tail = tachys_record.tail;
    uint32_t now = tachys_count() & TACHYS_COUNTS, waiting = head - tail;
    size_t size = 0;
    tachys_restore(mask);
    if (waiting == 0u && ((now - tachys_line.time) & TACHYS_COUNTS) > TACHYS_COUNTS / 4u) {
        TACHYS_ALIVE(); /* before the counter can turn round unseen */
        return 0;
    }
    if (waiting * 255u / TACHYS_WORDS > tachys_line.fill)
        tachys_line.fill = (uint8_t)(waiting * 255u / TACHYS_WORDS);
    if (waiting == 0u || (waiting < TACHYS_ENOUGH && ((now - tachys_line.sent) & TACHYS_COUNTS) < TACHYS_COUNTS / 16u))
        return 0;
    if (!tachys_line.begun || tachys_line.sequence % 64u == 0u) {
        raw[size++] = 2; /* who speaks */
        size += tachys_four(raw + size, tachys_line.sequence | (tachys_line.begun ? 0u : 0x10000u));
        raw[size++] = @FORMAT@;
        raw[size++] = TACHYS_COUNT_BITS;
        size += tachys_four(raw + size, TACHYS_COUNT_HZ);
        size += tachys_four(raw + size, tachys_record.cost);
        size += tachys_four(raw + size, tachys_record.model);
        tachys_line.begun = 1u;
        tachys_line.sequence++;
        return tachys_pack(frame, raw, size);
    }
    raw[size++] = 1; /* marks */
    size += tachys_four(raw + size, tachys_line.sequence++ | (uint32_t)tachys_line.fill << 16);
    size += tachys_four(raw + size, tachys_line.time);
    raw[size++] = 0; /* how many bytes of marks, once that is known */
    while (tail != head) {
        uint32_t word = tachys_record.ring[tail & (TACHYS_WORDS - 1)], code = word >> 24, rest = word & 0xFFFFFFu;
        if (size + (code == TACHYS_CODE_DATA ? 5u : 10u) > TACHYS_PAYLOAD) /* data goes with what it belongs to */
            break;
        tail++;
        raw[size++] = (uint8_t)code;
        if (code != TACHYS_CODE_DATA) {
            uint32_t later = (rest - tachys_line.time) & TACHYS_COUNTS;
            tachys_line.time += later;
            rest = later;
        }
        size += tachys_number(raw + size, rest);
    }
    raw[9] = (uint8_t)(size - 10u);
    tachys_line.fill = 0u;
    tachys_line.sent = now;
    mask = tachys_lock();
    tachys_record.tail = tail;
    tachys_restore(mask);
    return tachys_pack(frame, raw, size);
}

#endif
#endif
#endif
#endif
