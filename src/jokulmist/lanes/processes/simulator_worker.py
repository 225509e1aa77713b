"""A worker process of `lane.py`: it holds one copy of a simulator and does what a request asks for.

A request is one line: JSON to begin, a number of advances to advance. So is an answer: JSON where something failed,
else nothing. What is large goes through the shared memory.
"""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import Any

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.modifiers import modifier_from
from jokulmist.environments.transition.simulator_stepping import LocalCopy
from jokulmist.environments.transition.stepping import place_of
from jokulmist.errors import JokulmistError
from jokulmist.lanes.processes.shared_buffer import SharedBuffer
from jokulmist.loading import function_named, looking_in
from jokulmist.sources.trust import trust_everything

DONE = b"\n"


def main() -> None:
    """Work until the input ends."""
    trust_everything()
    # What a researcher's code prints belongs beside the talk, not into the answers.
    out = os.dup(1)
    os.dup2(2, 1)

    def answer(**content: Any) -> None:
        os.write(out, json.dumps(content).encode() + b"\n")

    first = json.loads(sys.stdin.readline())
    sys.path[:] = [*first["modules"], *[place for place in sys.path if place not in first["modules"]]]
    try:
        with looking_in(Path(first["folder"])):
            kind = function_named(first["use"])
            environment = kind(weights=first["weights"], **first["given"])
            environment = environment.modified(*[modifier_from(entry) for entry in first["modify"]])
        buffer = SharedBuffer(describe(environment), first["copies"], first["descriptor"])
    except BaseException as failure:
        answer(failed=str(failure) or type(failure).__name__)
        return
    answer()
    copy, number = LocalCopy(environment), first["copy"]
    for line in sys.stdin:
        begins = line[0] == "{"
        method = "begin" if begins else "advance"
        try:
            if begins:
                request = json.loads(line)
                copy.revalue(request["values"])
                buffer.write(number, 0, copy.begin(request["seed"]))
            else:
                _advance(buffer, copy, number, int(line))
        except JokulmistError as failure:
            answer(failed=str(failure))
        except Exception as failure:  # of this episode only: another process begins another
            file, line_number = place_of(failure)
            name = type(environment).__name__
            answer(lost=f"`{name}.{method}` ({file}:{line_number}) failed: {type(failure).__name__}: {failure}")
        else:
            os.write(out, DONE)
    copy.close()


def _advance(buffer: SharedBuffer, copy: LocalCopy, number: int, times: int) -> None:
    """So many advances by the action that is in the buffer, or until one closes the episode."""
    action = buffer.decided(number)
    for slot in range(times):
        state = copy.advance(None, action, None)
        buffer.write(number, slot, state)
        if state.satisfied:
            return


if __name__ == "__main__":
    main()
