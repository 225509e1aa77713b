"""The client kit in C under sanitizers: whatever a request says, nothing outside of the arenas is read or written."""

import json
import random
import subprocess
from pathlib import Path

import pytest
from commands import sanitizers

KIT = Path(__file__).parents[2] / "clients" / "c"
HARNESS = r"""
#define ARENAS_IMPLEMENTATION
#include "arenas.h"

typedef struct { double level; uint32_t seed; } pond;
static const char *const seen[] = {"level", "rain[2]", NULL}, *const terms[] = {"calm", NULL}, *const parts[] = {"gate", "lamp[1x2]", NULL};
static const char *const choices[] = {"gate[2]", NULL};
static const char *const parameters[] = {"lift", NULL}, *const closings[] = {"dry", NULL};
static const double values[] = {0.5};

static void begin(void *arena, uint32_t seed, const double *given, double *shown) {
    pond *own = arena;
    own->level = given[0];
    own->seed = seed;
    shown[0] = own->level;
    shown[1] = shown[2] = 0.0;
}

static void legal(const void *arena, unsigned char *allowed) { allowed[1] = ((const pond *)arena)->level < 2.0; }

static int turn(const void *arena) { return ((const pond *)arena)->level < 1.0 ? -1 : 1; }

static int advance(void *arena, const double *action, double *shown, double *paid) {
    pond *own = arena;
    own->level += action[0] + action[1] + action[2];
    shown[0] = own->level;
    shown[1] = shown[2] = paid[0] = 1.0;
    return own->level > 5.0;
}

int main(void) {
    static pond ponds[3];
    double seen_room[9], term_room[3], action_room[3], value_room[1], legal_room[6];
    unsigned char allowed_room[2];
    int closed[3];
    arenas_program program = {
        .described = "\"name\":\"Pond\"", .seen_names = seen, .term_names = terms, .part_names = parts, .parameter_names = parameters, .parameter_values = values,
        .closings = closings, .count = 3, .arenas = ponds, .size = sizeof(pond), .begin = begin, .advance = advance, .legal_names = choices, .legal = legal, .turn = turn,
    };
    arenas_room room = {seen_room, term_room, action_room, value_room, closed, legal_room, allowed_room};
    char *line = NULL;
    size_t size = 0;
    ssize_t got;
    while ((got = getline(&line, &size, stdin)) > 0) {
        line[got - 1] = 0;
        char *exact = malloc((size_t)got); /* of its own size, so that one byte too far is seen */
        memcpy(exact, line, (size_t)got);
        arenas_text out = {0};
        const char *wrong = arenas_answer(&program, &room, "cod", exact, exact + got - 1, &out);
        printf("%s\n", wrong ? wrong : "done");
        free(out.at);
        free(exact);
    }
    free(line);
    return arenas_serve == NULL;
}
"""
NUMBERS = [
    "0",
    "1",
    "2",
    "3",
    "-0",
    "-1",
    "1.5",
    "1e308",
    "-1e308",
    "1e999",
    "nan",
    "-nan",
    "-inf",
    "inf",
    "0x7fffffff",
    "4294967296",
    "9999999999999999999",
    "-",
    "",
    '"1"',
    "null",
    "[1]",
]


def requests():
    """Each number in each place, then damaged ones."""
    result = []
    for number in NUMBERS:
        result.append(f'{{"method":"begin","params":{{"arenas":[{number}],"seeds":[1]}}}}')
        result.append(
            f'{{"method":"begin","params":{{"arenas":[0],"seeds":[{number}],"parameters":[{{"lift":{number}}}]}}}}'
        )
        result.append(
            f'{{"method":"advance","params":{{"arenas":[0,{number}],"actions":{{"gate":[{number},1],"lamp":[[[0,{number}]],[[{number},0]]]}}}}}}'
        )
        result.append(
            f'{{"method":"advance","params":{{"arenas":[1],"actions":{{"gate":[1],"lamp":[[[0,0]]]}},"times":{number}}}}}'.replace(
                "1e308", "3"
            )
        )
    result += [
        '{"method":"advance","params":{"arenas":[0,0,0,0,0,0]}}',
        '{"method":"begin","params":{"arenas":[0]}',
        '"\\',
        "[" * 500,
        '{"method":"hello\\"}',
        "{",
        "",
    ]
    draw = random.Random(1)
    for _ in range(3_000):
        text = list(draw.choice(result[: 4 * len(NUMBERS)]))
        for _ in range(draw.randrange(1, 4)):
            position = draw.randrange(len(text))
            text[position : position + draw.randrange(0, 3)] = draw.choice(
                ['"', "\\", "[", "]", "{", "}", ",", "9", "-", "e", " ", ""]
            )
        result.append("".join(text))
    return [item.replace('times":99', 'times":9') for item in result]


@pytest.mark.skipif(not sanitizers(), reason="there is no C compiler with sanitizers")
def test_no_request_reads_or_writes_outside_of_the_arenas(tmp_path):
    (tmp_path / "main.c").write_text(HARNESS)
    safe = ["-std=c99", "-D_POSIX_C_SOURCE=200809L", "-g", "-fsanitize=float-cast-overflow", *sanitizers()]
    subprocess.run(["cc", *safe, f"-I{KIT}", "main.c", "-o", "main", "-lm"], cwd=tmp_path, check=True)
    options = requests()
    done = subprocess.run(
        [tmp_path / "main"], input="\n".join(options) + "\n", capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stderr[:2_000]
    output = dict(zip(options, done.stdout.splitlines(), strict=False))
    item = '{{"method":"begin","params":{{"arenas":[{}],"seeds":[{}]}}}}'
    assert output[item.format("1", "1")] == "done"
    for number in ("-nan", "nan", "-1", "3", "1e999"):
        assert output[item.format(number, "1")] == "an arena is named that is not there"
    assert output[json.dumps({"method": "begin", "params": {"arenas": [0]}}, separators=(",", ":"))[:-1]]
