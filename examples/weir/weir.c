/* A weir in C: keep the level of a mill pond by a gate, while the melt changes. Compiled and started by a training:
 *
 *     cc -std=c99 -D_POSIX_C_SOURCE=200809L -O2 -o weir examples/weir/weir.c -lm        jm.Remote(command=["./weir"])
 */
#define ARENAS_IMPLEMENTATION
#include "../../clients/c/arenas.h"

#define ARENAS 64

typedef struct { double level, melt; uint32_t chance; } pond;

static double chance(pond *one) {
    one->chance = one->chance * 1664525u + 1013904223u;
    return (one->chance >> 8) / 16777216.0;
}

static void look(const pond *one, double *seen) {
    seen[0] = one->level;
    seen[1] = one->melt;
}

static void begin(void *arena, uint32_t seed, const double *parameters, double *seen) {
    pond *one = arena;
    one->chance = seed;
    chance(one);
    one->level = 1.0 + chance(one);
    one->melt = parameters[0] * (0.5 + chance(one));
    look(one, seen);
}

static int advance(void *arena, const double *action, double *seen, double *terms) {
    pond *one = arena;
    double gate = action[0] / 4.0; /* 0 shut .. 4 open */
    one->melt += 0.05 * (chance(one) - 0.5);
    if (one->melt < 0.0) one->melt = 0.0;
    one->level += 0.2 * (one->melt - 2.0 * gate * (one->level > 0.0 ? sqrt(one->level) : 0.0));
    if (one->level < 0.0) one->level = 0.0;
    terms[0] = -fabs(one->level - 1.5);
    look(one, seen);
    return one->level > 3.0 ? 1 : 0;
}

int main(void) {
    static const char *const seen[] = {"level", "melt", NULL}, *const terms[] = {"off", NULL}, *const melts[] = {"usual_melt", NULL};
    static const char *const closings[] = {"over_the_dam", NULL};
    static const double values[] = {0.8};
    static pond ponds[ARENAS];
    arenas_program program = {
        .described = "\"name\":\"Weir\",\"observation\":{\"level\":{\"low\":0,\"high\":3.5,\"unit\":\"m\"},\"melt\":{\"low\":0,\"high\":2.5}},"
        "\"action\":{\"kind\":\"choice\",\"labels\":[\"shut\",\"quarter\",\"half\",\"most\",\"open\"]},\"terms\":{\"off\":1},\"endings\":[\"over_the_dam\"],"
        "\"time_limit\":60,\"parameters\":{\"usual_melt\":{\"value\":0.8,\"low\":0.2,\"high\":1.6}}",
        .seen_names = seen, .term_names = terms, .parameter_names = melts, .parameter_values = values, .closings = closings,
        .count = ARENAS, .arenas = ponds, .size = sizeof(pond), .begin = begin, .advance = advance,
    };
    return arenas_serve(&program);
}
