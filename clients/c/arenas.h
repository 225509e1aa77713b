/* Let a Jokulmist training step your program: a client kit in one header, C99 and POSIX sockets, nothing else.
 *
 *     #define ARENAS_IMPLEMENTATION
 *     #include "arenas.h"
 *
 *     static void begin(void *arena, uint32_t seed, const double *parameters, double *seen) { ... }
 *     static int advance(void *arena, const double *action, double *seen, double *terms) { ...; return 0; }   (or 1 + the number of an ending or a cut)
 *
 *     int main(void) { return arenas_serve(&(arenas_program){ .described = "...", .count = 8, ... }); }
 *
 * It goes to the address in JOKULMIST_ADDRESS, where a training has started it (`jm.Remote(command=["./program"])`). `described` is the inside of the answer to `hello`
 * as docs/protocol.md has it, without `protocol`, `secret` and `arenas`: observation, action, terms, endings, ... Observations, terms and parameters are arrays
 * of numbers in the order of `seen_names`, `term_names`, `parameter_names`; an action is one number for a choice or a range, or one for each part of `part_names`.
 *
 * A name says what belongs together: "north.fuel" is the fuel of the player north, whose names stand side by side; "pull[2]" and "board[3x3]" are so many numbers in a
 * row; "[9]" by itself is nine without a name. What may be done is told by `legal`, an entry an alternative, in the order of `legal_names`: "[9]" for one choice, "north[2]"
 * and "south[2]" for two players; whose turn it is by `turn`. Both are declared in `described` by "says". Images are not in this kit; the protocol has them. */
#ifndef ARENAS_H
#define ARENAS_H

#include <stddef.h>
#include <stdint.h>

typedef struct {
    const char *described;             /* JSON without its outer braces */
    const char *const *seen_names;     /* each ends with NULL; NULL where there are none */
    const char *const *term_names;
    const char *const *part_names;     /* parts of the action; NULL where it is one choice or range */
    const char *const *parameter_names;
    const double *parameter_values;    /* those that stand where a training says nothing */
    const char *const *closings;       /* endings and cuts, in the order of what advance returns */
    int count;                         /* arenas */
    void *arenas;                      /* the first of so many */
    size_t size;                       /* of one, in bytes */
    void (*begin)(void *arena, uint32_t seed, const double *parameters, double *seen);
    int (*advance)(void *arena, const double *action, double *seen, double *terms);
    const char *const *legal_names;    /* choices with their number of alternatives; NULL where all is always allowed */
    void (*legal)(const void *arena, unsigned char *allowed);
    int (*turn)(const void *arena);    /* the number of the player who decides next, below 0 where all do; NULL where all always do */
} arenas_program;

/* Answer a training until it goes; 0 then, 1 where it cannot be reached. */
int arenas_serve(const arenas_program *program);

#endif

#ifdef ARENAS_IMPLEMENTATION

#include <errno.h>
#include <math.h>
#include <netdb.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#define ARENAS_MOST (64u << 20)
#define ARENAS_DEPTH 64

/* --- text that grows --- */

typedef struct { char *at; size_t size, room; int failed; } arenas_text;

static void arenas_put(arenas_text *text, const char *data, size_t size) {
    if (text->failed) return;
    if (text->size + size + 1 > text->room) {
        size_t room = text->room ? text->room : 4096;
        while (room < text->size + size + 1) room *= 2;
        char *grown = realloc(text->at, room);
        if (!grown) { text->failed = 1; return; }
        text->at = grown;
        text->room = room;
    }
    memcpy(text->at + text->size, data, size);
    text->size += size;
    text->at[text->size] = 0;
}

static void arenas_say(arenas_text *text, const char *format, ...) {
    char part[512];
    va_list more;
    va_start(more, format);
    int size = vsnprintf(part, sizeof part, format, more);
    va_end(more);
    if (size > 0) arenas_put(text, part, (size_t)size < sizeof part ? (size_t)size : sizeof part - 1);
}

/* A number; what is none becomes null, which the training refuses by name. */
static void arenas_number(arenas_text *text, double value) {
    if (isfinite(value)) arenas_say(text, "%.9g", value);
    else arenas_say(text, "null");
}

/* --- JSON, read where it stands --- */

static const char *arenas_space(const char *at, const char *end) {
    while (at < end && (*at == ' ' || *at == '\n' || *at == '\r' || *at == '\t')) at++;
    return at;
}

static const char *arenas_skip(const char *at, const char *end, int depth) {
    at = arenas_space(at, end);
    if (at >= end || depth > ARENAS_DEPTH) return NULL;
    if (*at == '"') {
        for (at++; at < end && *at != '"'; at++) if (*at == '\\') at++;
        return at < end ? at + 1 : NULL;
    }
    if (*at == '{' || *at == '[') {
        char open = *at, close = open == '{' ? '}' : ']';
        at = arenas_space(at + 1, end);
        if (at < end && *at == close) return at + 1;
        while (at && at < end) {
            if (open == '{') {
                at = arenas_skip(at, end, depth + 1);
                if (!at) return NULL;
                at = arenas_space(at, end);
                if (at >= end || *at != ':') return NULL;
                at++;
            }
            at = arenas_skip(at, end, depth + 1);
            if (!at) return NULL;
            at = arenas_space(at, end);
            if (at < end && *at == close) return at + 1;
            if (at >= end || *at != ',') return NULL;
            at++;
        }
        return NULL;
    }
    const char *from = at;
    while (at < end && *at != ',' && *at != '}' && *at != ']' && *at != ' ' && *at != '\n' && *at != '\r' && *at != '\t') at++;
    return at > from ? at : NULL;
}

/* The value of a name, of so many bytes, in an object, or NULL. */
static const char *arenas_find_part(const char *at, const char *end, const char *name, size_t size) {
    if (!at) return NULL;
    at = arenas_space(at, end);
    if (at >= end || *at != '{') return NULL;
    at = arenas_space(at + 1, end);
    while (at && at < end && *at == '"') {
        const char *key = at + 1, *after = arenas_skip(at, end, 0);
        if (!after) return NULL;
        int same = (size_t)(after - 1 - key) == size && memcmp(key, name, size) == 0;
        at = arenas_space(after, end);
        if (at >= end || *at != ':') return NULL;
        at = arenas_space(at + 1, end);
        if (same) return at < end ? at : NULL;
        at = arenas_skip(at, end, 0);
        if (!at) return NULL;
        at = arenas_space(at, end);
        if (at < end && *at == ',') at = arenas_space(at + 1, end);
    }
    return NULL;
}

static const char *arenas_find(const char *at, const char *end, const char *name) { return arenas_find_part(at, end, name, strlen(name)); }

/* The k-th entry of a list, or NULL. */
static const char *arenas_entry(const char *at, const char *end, int k) {
    if (!at) return NULL;
    at = arenas_space(at, end);
    if (at >= end || *at != '[') return NULL;
    at = arenas_space(at + 1, end);
    for (int j = 0; at && at < end && *at != ']'; j++) {
        if (j == k) return at;
        at = arenas_skip(at, end, 0);
        if (!at) return NULL;
        at = arenas_space(at, end);
        if (at < end && *at == ',') at = arenas_space(at + 1, end);
    }
    return NULL;
}

/* A finite number, or 0 and the value stays as it is. The text is closed by a zero byte, so a number never reads beyond it. */
static int arenas_read(const char *at, const char *end, double *value) {
    if (!at || at >= end) return 0;
    const char *digit = at + (*at == '-');
    if (digit >= end || *digit < '0' || *digit > '9') return 0;
    char *after;
    double number = strtod(at, &after);
    if (after <= at || !isfinite(number)) return 0;
    *value = number;
    return 1;
}

/* --- WebSocket (RFC 6455), as a client --- */

static int arenas_send_all(int socket, const void *data, size_t size) {
    const char *at = data;
    while (size) {
        ssize_t sent = send(socket, at, size, MSG_NOSIGNAL);
        if (sent < 0 && errno == EINTR) continue;
        if (sent <= 0) return 0;
        at += sent;
        size -= (size_t)sent;
    }
    return 1;
}

static int arenas_take_all(int socket, void *data, size_t size) {
    char *at = data;
    while (size) {
        ssize_t got = recv(socket, at, size, 0);
        if (got < 0 && errno == EINTR) continue;
        if (got <= 0) return 0;
        at += got;
        size -= (size_t)got;
    }
    return 1;
}

static int arenas_frame(int socket, int kind, const char *data, size_t size) {
    unsigned char head[14];
    size_t at = 2;
    head[0] = (unsigned char)(128 | kind);
    if (size < 126) head[1] = (unsigned char)(128 | size);
    else if (size < 65536) { head[1] = 128 | 126; head[2] = (unsigned char)(size >> 8); head[3] = (unsigned char)size; at = 4; }
    else { head[1] = 128 | 127; for (int k = 0; k < 8; k++) head[2 + k] = (unsigned char)((uint64_t)size >> (56 - 8 * k)); at = 10; }
    memset(head + at, 0, 4); /* a mask of zeros leaves the data as it is */
    return arenas_send_all(socket, head, at + 4) && arenas_send_all(socket, data, size);
}

/* The next message, closed by a zero byte; 0 at the end. */
static int arenas_message(int socket, arenas_text *text) {
    text->size = 0;
    for (;;) {
        unsigned char head[2], more[8];
        if (!arenas_take_all(socket, head, 2)) return 0;
        uint64_t size = head[1] & 127;
        int wide = size == 126 ? 2 : size == 127 ? 8 : 0;
        if (wide) {
            if (!arenas_take_all(socket, more, (size_t)wide)) return 0;
            size = 0;
            for (int k = 0; k < wide; k++) size = size << 8 | more[k];
        }
        if ((head[1] & 128) || size > ARENAS_MOST || text->size + size > ARENAS_MOST) return 0;
        int kind = head[0] & 15;
        char *data = malloc((size_t)size + 1);
        if (!data || !arenas_take_all(socket, data, (size_t)size)) { free(data); return 0; }
        if (kind == 8) { arenas_frame(socket, 8, NULL, 0); free(data); return 0; }
        if (kind == 9) arenas_frame(socket, 10, data, (size_t)size);
        if (kind <= 2) arenas_put(text, data, (size_t)size);
        free(data);
        if (text->failed) return 0;
        if (kind <= 2 && (head[0] & 128)) return 1;
    }
}

static int arenas_connect(const char *address) {
    char host[256] = "", port[16] = "80", request[640];
    if (sscanf(address, "ws://%255[^:/]:%15[0-9]", host, port) < 1) { fprintf(stderr, "JOKULMIST_ADDRESS is %s; it begins with ws://\n", address); return -1; }
    struct addrinfo wanted, *found = NULL;
    memset(&wanted, 0, sizeof wanted);
    wanted.ai_socktype = SOCK_STREAM;
    if (getaddrinfo(host, port, &wanted, &found)) { fprintf(stderr, "there is no host %s\n", host); return -1; }
    int made = -1;
    for (struct addrinfo *one = found; one && made < 0; one = one->ai_next) {
        made = socket(one->ai_family, one->ai_socktype, one->ai_protocol);
        if (made >= 0 && connect(made, one->ai_addr, one->ai_addrlen)) { close(made); made = -1; }
    }
    freeaddrinfo(found);
    if (made < 0) { fprintf(stderr, "nobody answers at %s\n", address); return -1; }
    int yes = 1;
    setsockopt(made, IPPROTO_TCP, TCP_NODELAY, &yes, sizeof yes);
    int size = snprintf(request, sizeof request, "GET / HTTP/1.1\r\nHost: %s:%s\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"
                        "Sec-WebSocket-Key: bW9kZXN0IGFyZW5hcyBraQ==\r\nSec-WebSocket-Version: 13\r\n\r\n", host, port);
    char answer[4096];
    size_t got = 0;
    int through = arenas_send_all(made, request, (size_t)size);
    while (through && got + 1 < sizeof answer && (got < 4 || memcmp(answer + got - 4, "\r\n\r\n", 4))) {
        through = arenas_take_all(made, answer + got, 1);
        got += through ? 1u : 0u;
    }
    answer[got] = 0;
    if (!through || strncmp(answer, "HTTP/1.1 101", 12)) { fprintf(stderr, "no WebSocket answers at %s\n", address); close(made); return -1; }
    return made;
}

/* --- what is asked, answered --- */

static int arenas_length(const char *const *names) {
    int count = 0;
    while (names && names[count]) count++;
    return count;
}

/* Where the brackets of a name begin, or its end. */
static const char *arenas_shape(const char *name) { return name + strcspn(name, "["); }

/* How many numbers a name stands for. */
static int arenas_size(const char *name) {
    const char *at = arenas_shape(name);
    long size = 1;
    while (*at && *at != ']') {
        char *after;
        long side = strtol(at + 1, &after, 10);
        if (after == at + 1 || side < 1 || side > 1000000 / size) return 0;
        size *= side;
        at = after;
    }
    return (int)size;
}

static int arenas_width(const char *const *names) {
    int width = 0;
    for (int k = 0; names && names[k]; k++) width += arenas_size(names[k]);
    return width;
}

/* Numbers, or truth values, in lists as deep as a shape is; it gives what comes after them. */
static const double *arenas_nested(arenas_text *out, const char *shape, const double *values, int truths) {
    if (*shape != '[' && *shape != 'x') {
        if (truths) arenas_say(out, *values != 0.0 ? "true" : "false"); else arenas_number(out, *values);
        return values + 1;
    }
    char *after;
    long side = strtol(shape + 1, &after, 10);
    arenas_put(out, "[", 1);
    for (long k = 0; k < side; k++) { if (k) arenas_put(out, ",", 1); values = arenas_nested(out, after, values, truths); }
    arenas_put(out, "]", 1);
    return values;
}

static void arenas_column(arenas_text *out, const char *shape, const double *values, int width, int count, int truths) {
    arenas_put(out, "[", 1);
    for (int j = 0; j < count; j++) { if (j) arenas_put(out, ",", 1); arenas_nested(out, shape, values + (size_t)j * (size_t)width, truths); }
    arenas_put(out, "]", 1);
}

/* Columns by name; those of a player, "north.fuel", in an object of its own. */
static void arenas_columns(arenas_text *out, const char *name, const char *const *names, const double *values, int count, int truths) {
    int width = arenas_width(names);
    size_t open = 0; /* the length of the player's name whose object is open */
    arenas_say(out, "\"%s\":", name);
    if (names && names[0] && *names[0] == '[') { arenas_column(out, names[0], values, width, count, truths); return; }
    arenas_put(out, "{", 1);
    for (int k = 0; names && names[k]; k++) {
        const char *shape = arenas_shape(names[k]), *dot = memchr(names[k], '.', (size_t)(shape - names[k]));
        size_t owner = dot ? (size_t)(dot - names[k]) : 0;
        if (open && (open != owner || memcmp(names[k], names[k - 1], owner))) { arenas_put(out, "}", 1); open = 0; }
        if (k) arenas_put(out, ",", 1);
        if (owner && !open) { arenas_say(out, "\"%.*s\":{", (int)owner, names[k]); open = owner; }
        const char *own = dot ? dot + 1 : names[k];
        arenas_say(out, "\"%.*s\":", (int)(shape - own), own);
        arenas_column(out, shape, values, width, count, truths);
        values += arenas_size(names[k]);
    }
    arenas_put(out, open ? "}}" : "}", open ? 2 : 1);
}

typedef struct { double *seen, *terms, *action, *values; int *closed; double *legal; unsigned char *allowed; } arenas_room;

static void arenas_moment(arenas_text *out, const arenas_program *p, const arenas_room *room, const int *places, int begins, int count) {
    arenas_put(out, "{", 1);
    arenas_columns(out, "observation", p->seen_names, room->seen, count, 0);
    if (!begins) {
        arenas_put(out, ",", 1);
        arenas_columns(out, "terms", p->term_names, room->terms, count, 0);
        arenas_say(out, ",\"closed_by\":[");
        for (int j = 0; j < count; j++) {
            if (j) arenas_put(out, ",", 1);
            if (room->closed[j]) arenas_say(out, "\"%s\"", p->closings[room->closed[j] - 1]); else arenas_say(out, "null");
        }
        arenas_put(out, "]", 1);
    }
    int width = arenas_width(p->legal_names);
    if (width && p->legal) {
        for (int j = 0; j < count; j++) {
            /* Nobody decides in an episode that has closed: all is allowed. */
            memset(room->allowed, 1, (size_t)width);
            if (begins || !room->closed[j]) p->legal((const char *)p->arenas + p->size * (size_t)places[j], room->allowed);
            for (int k = 0; k < width; k++) room->legal[(size_t)j * (size_t)width + (size_t)k] = room->allowed[k];
        }
        arenas_put(out, ",", 1);
        arenas_columns(out, "legal", p->legal_names, room->legal, count, 1);
    }
    if (p->turn) {
        arenas_say(out, ",\"turn\":[");
        for (int j = 0; j < count; j++) {
            int player = !begins && room->closed[j] ? -1 : p->turn((const char *)p->arenas + p->size * (size_t)places[j]);
            if (player < 0) arenas_say(out, j ? ",null" : "null"); else arenas_say(out, j ? ",%d" : "%d", player);
        }
        arenas_put(out, "]", 1);
    }
    arenas_put(out, "}", 1);
}

/* The column of an action's part: of "north.helm[2]" what the object of the player has under it. */
static const char *arenas_part(const char *actions, const char *end, const char *name) {
    const char *shape = arenas_shape(name);
    while (actions && name < shape) {
        const char *dot = memchr(name, '.', (size_t)(shape - name)), *stop = dot ? dot : shape;
        actions = arenas_find_part(actions, end, name, (size_t)(stop - name));
        name = dot ? dot + 1 : shape;
    }
    return actions;
}

/* Numbers from lists as deep as a shape is; NULL where one is missing. */
static double *arenas_take(const char *at, const char *end, const char *shape, double *values) {
    if (*shape != '[' && *shape != 'x') return arenas_read(at, end, values) ? values + 1 : NULL;
    char *after;
    long side = strtol(shape + 1, &after, 10);
    for (long k = 0; values && k < side; k++) values = arenas_take(arenas_entry(at, end, (int)k), end, after, values);
    return values;
}

/* The result of a request, or what is wrong with it. */
static const char *arenas_answer(const arenas_program *p, const arenas_room *room, const char *secret, const char *at, const char *end, arenas_text *out) {
    const char *method = arenas_find(at, end, "method"), *params = arenas_find(at, end, "params");
    int width = arenas_width(p->seen_names), parts = arenas_length(p->part_names), wide = arenas_length(p->parameter_names), paid = arenas_width(p->term_names);
    double number;
    if (!method) return "the request has no method";
    if (!strncmp(method, "\"hello\"", 7)) {
        if (!arenas_read(arenas_find(params, end, "protocol"), end, &number) || number != 1.0) return "this program speaks protocol 1";
        arenas_say(out, "{\"protocol\":1,\"arenas\":%d,\"secret\":\"%s\",", p->count, secret);
        arenas_put(out, p->described, strlen(p->described));
        arenas_put(out, "}", 1);
        return NULL;
    }
    if (!strncmp(method, "\"tempo\"", 7) || !strncmp(method, "\"close\"", 7)) { arenas_say(out, "{}"); return NULL; }
    int begins = !strncmp(method, "\"begin\"", 7);
    if (!begins && strncmp(method, "\"advance\"", 9)) return "there is no such method";
    const char *list = arenas_find(params, end, "arenas"), *actions = arenas_find(params, end, "actions");
    int count = 0, places[4096];
    for (const char *one; (one = arenas_entry(list, end, count)) != NULL; count++) {
        if (count == 4096 || count == p->count) return "more arenas are named than there are";
        if (!arenas_read(one, end, &number) || !(number >= 0.0 && number < (double)p->count)) return "an arena is named that is not there";
        places[count] = (int)number;
    }
    if (!count) return "no arena is named";
    if (begins) {
        const char *seeds = arenas_find(params, end, "seeds"), *given = arenas_find(params, end, "parameters");
        for (int j = 0; j < count; j++) {
            if (!arenas_read(arenas_entry(seeds, end, j), end, &number)) return "a seed is missing";
            if (!(number >= 0.0 && number < 4294967296.0)) return "a seed is a whole number from 0";
            for (int k = 0; k < wide; k++) {
                room->values[k] = p->parameter_values[k];
                if (given) arenas_read(arenas_find(arenas_entry(given, end, j), end, p->parameter_names[k]), end, &room->values[k]);
            }
            p->begin((char *)p->arenas + p->size * (size_t)places[j], (uint32_t)number, room->values, room->seen + (size_t)j * (size_t)width);
        }
        arenas_moment(out, p, room, places, 1, count);
        return NULL;
    }
    double times = 1.0;
    arenas_read(arenas_find(params, end, "times"), end, &times);
    if (!(times >= 1.0 && times <= 1e6)) return "times is a whole number from 1";
    memset(room->closed, 0, sizeof(int) * (size_t)count);
    if (times > 1.0) arenas_put(out, "[", 1);
    for (int turn = 0; turn < (int)times; turn++) {
        int open = 0;
        for (int j = 0; j < count; j++) {
            if (room->closed[j]) continue;
            double *action = room->action;
            for (int k = 0; action && k < (parts ? parts : 1); k++) {
                const char *column = parts ? arenas_part(actions, end, p->part_names[k]) : actions;
                action = arenas_take(arenas_entry(column, end, j), end, parts ? arenas_shape(p->part_names[k]) : "", action);
            }
            if (!action) return "an action is missing";
            double *terms = room->terms + (size_t)j * (size_t)paid;
            for (int k = 0; k < paid; k++) terms[k] = 0.0;
            int closed = p->advance((char *)p->arenas + p->size * (size_t)places[j], room->action, room->seen + (size_t)j * (size_t)width, terms);
            room->closed[j] = closed > 0 && closed <= arenas_length(p->closings) ? closed : 0;
            open += !room->closed[j];
        }
        if (turn) arenas_put(out, ",", 1);
        arenas_moment(out, p, room, places, 0, count);
        if (!open) break;
    }
    if (times > 1.0) arenas_put(out, "]", 1);
    return NULL;
}

int arenas_serve(const arenas_program *p) {
    const char *address = getenv("JOKULMIST_ADDRESS"), *secret = getenv("JOKULMIST_SECRET");
    if (!address) { fprintf(stderr, "let a training start this program: JOKULMIST_ADDRESS is not set\n"); return 1; }
    int socket = arenas_connect(address);
    if (socket < 0) return 1;
    size_t count = (size_t)p->count, width = (size_t)arenas_width(p->legal_names);
    arenas_room room = {
        calloc(count * (size_t)arenas_width(p->seen_names) + 1, sizeof(double)), calloc(count * (size_t)arenas_width(p->term_names) + 1, sizeof(double)),
        calloc((size_t)arenas_width(p->part_names) + 1, sizeof(double)), calloc((size_t)arenas_length(p->parameter_names) + 1, sizeof(double)), calloc(count + 1, sizeof(int)),
        calloc(count * width + 1, sizeof(double)), calloc(width + 1, 1),
    };
    arenas_text in = {0}, result = {0}, out = {0};
    int whole = room.seen && room.terms && room.action && room.values && room.closed && room.legal && room.allowed;
    while (whole && arenas_message(socket, &in)) {
        const char *end = in.at + in.size, *id = arenas_find(in.at, end, "id"), *after = id ? arenas_skip(id, end, 0) : NULL;
        result.size = out.size = 0;
        const char *wrong = arenas_answer(p, &room, secret ? secret : "", in.at, end, &result);
        arenas_say(&out, "{\"jsonrpc\":\"2.0\",\"id\":");
        if (after) arenas_put(&out, id, (size_t)(after - id)); else arenas_say(&out, "null");
        if (wrong) arenas_say(&out, ",\"error\":{\"code\":-32000,\"message\":\"%s\"}}", wrong);
        else { arenas_say(&out, ",\"result\":"); arenas_put(&out, result.at, result.size); arenas_put(&out, "}", 1); }
        if (result.failed || out.failed || !arenas_frame(socket, 1, out.at, out.size)) break;
    }
    close(socket);
    free(room.seen); free(room.terms); free(room.action); free(room.values); free(room.closed); free(room.legal); free(room.allowed);
    free(in.at); free(result.at); free(out.at);
    return 0;
}

#endif
