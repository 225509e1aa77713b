"""Self-play in small games whose exact values are known: decisions that give value away, against every reply.

    python benchmarks/self_play.py --games stakes,heaps,ford --methods PPO,DQN --seeds 5 --steps 3_000_000

One policy plays both players, beside a roster of its own past and random play that rotates its seat, or (`--partners
none`) against itself alone. After training its greedy policy meets every reply that the rules allow, in both seats.
Counted are its decisions after which the exact value is lower than before, and the lines of play that it loses although
it did not have to.
"""

import argparse
import json
import statistics
import time
import warnings
from functools import cache

import numpy as np

import jokulmist as jm

ROWS, SLOTS = 3, 5
STEPS_OF_LINES = ((0, 1), (1, 0), (1, 1), (1, -1))
LINES = [
    [(r + k * down) * SLOTS + c + k * right for k in range(3)]
    for r in range(ROWS)
    for c in range(SLOTS)
    for down, right in STEPS_OF_LINES
    if r + 2 * down < ROWS and 0 <= c + 2 * right < SLOTS
]
HEAPS = (3, 4, 5)
LENGTH = 12


class Turns:
    """Two decide in turn; who wins gets 1 and the other -1."""

    def turn(self, state):
        return state.moves % 2

    @jm.reward
    def game(self, after, player):
        return after.won * (1.0 - 2.0 * player)

    @jm.ending
    def decided(self, after):
        return after.won != 0.0

    def decision(self, state, actions):
        return self.xp.where(state.moves % 2 == 0, actions.first, actions.second)

    def outcome(self, state, is_won):
        """What the first gets where the player who moved has won."""
        return self.xp.where(is_won, 1.0 - 2.0 * (state.moves % 2), 0.0)


class Stakes(Turns, jm.Environment):
    """Stakes are dropped into five slots that hold three each; three in a row win, and a full board is a draw."""

    players = ("first", "second")
    deadline = ROWS * SLOTS

    class State(jm.State):
        moves: int
        won: float = jm.flow()
        board: int = jm.field(shape=(ROWS * SLOTS,))

    action = jm.Choice(SLOTS)

    def begin(self, draw):
        return self.State(board=self.xp.zeros(ROWS * SLOTS, dtype=self.xp.int32), moves=0)

    def legal(self, state, player):
        return state.board[-SLOTS:] == 0

    def advance(self, state, actions, draw):
        xp = self.xp
        slot, mover = self.decision(state, actions), state.moves % 2
        columns = state.board.reshape(ROWS, SLOTS) > 0
        height = xp.sum(columns & (xp.arange(SLOTS)[None, :] == slot))
        board = xp.where(xp.arange(ROWS * SLOTS) == height * SLOTS + slot, mover + 1, state.board)
        row = xp.any(xp.all(board[xp.asarray(LINES)] == mover + 1, axis=1))
        return state.replace(board=board, moves=state.moves + 1, won=self.outcome(state, row))

    @jm.sensor(low=0.0, high=1.0, shape=(ROWS * SLOTS,))
    def mine(self, state, player):
        return state.board == player + 1

    @jm.sensor(low=0.0, high=1.0, shape=(ROWS * SLOTS,))
    def theirs(self, state, player):
        return state.board == 2 - player

    # The same rules over plain tuples, for every line of play: (board, mover).
    root = ((0,) * ROWS * SLOTS, 0)

    @staticmethod
    def allowed(position):
        return [slot for slot in range(SLOTS) if position[0][slot - SLOTS] == 0]

    @staticmethod
    def played(position, slot):
        board, mover = list(position[0]), position[1]
        board[next(cell for cell in range(slot, ROWS * SLOTS, SLOTS) if not board[cell])] = mover + 1
        return tuple(board), 1 - mover

    @staticmethod
    def result(position):
        """What the player gets who would move next; None where the game goes on."""
        board, mover = position
        if any(all(board[cell] == 2 - mover for cell in line) for line in LINES):
            return -1
        return 0 if all(board) else None

    @staticmethod
    def seen(position):
        board, mover = np.array(position[0]), position[1]
        return {"mine": board == mover + 1, "theirs": board == 2 - mover}


class Heaps(Turns, jm.Environment):
    """Three heaps of fish; each takes one to five from one heap, and who takes the last wins."""

    players = ("first", "second")
    deadline = sum(HEAPS)

    class State(jm.State):
        moves: int
        won: float = jm.flow()
        heaps: int = jm.field(shape=(3,))

    action = jm.Choice(3 * max(HEAPS))

    def begin(self, draw):
        return self.State(heaps=self.xp.asarray(HEAPS, dtype=self.xp.int32), moves=0)

    def legal(self, state, player):
        xp = self.xp
        return xp.repeat(state.heaps, max(HEAPS)) > xp.arange(3 * max(HEAPS)) % max(HEAPS)

    def advance(self, state, actions, draw):
        xp, decision = self.xp, self.decision(state, actions)
        taken = xp.where(xp.arange(3) == decision // max(HEAPS), decision % max(HEAPS) + 1, 0)
        heaps = state.heaps - taken
        return state.replace(heaps=heaps, moves=state.moves + 1, won=self.outcome(state, heaps.sum() == 0))

    @jm.sensor(low=0.0, high=1.0, shape=(3, max(HEAPS) + 1))
    def sizes(self, state):
        return state.heaps[:, None] == self.xp.arange(max(HEAPS) + 1)[None, :]

    root = (HEAPS, 0)

    @staticmethod
    def allowed(position):
        return [h * max(HEAPS) + take for h, left in enumerate(position[0]) for take in range(left)]

    @staticmethod
    def played(position, decision):
        heaps = list(position[0])
        heaps[decision // max(HEAPS)] -= decision % max(HEAPS) + 1
        return tuple(heaps), 1 - position[1]

    @staticmethod
    def result(position):
        return None if any(position[0]) else -1

    @staticmethod
    def seen(position):
        return {"sizes": np.array(position[0])[:, None] == np.arange(max(HEAPS) + 1)[None, :]}


class Ford(Turns, jm.Environment):
    """Two wade from bank to bank over twelve stones: one or two stones on, or over the other who stands next, which
    sends that one two stones back. Who is across first wins."""

    players = ("first", "second")
    deadline = 60

    class State(jm.State):
        moves: int
        won: float = jm.flow()
        stones: int = jm.field(shape=(2,))

    action = jm.Choice("one", "two", "leap")

    def begin(self, draw):
        return self.State(stones=self.xp.asarray([0, 1], dtype=self.xp.int32), moves=0)

    def legal(self, state, player):
        xp = self.xp
        own, other = state.stones[player], state.stones[1 - player]
        return xp.stack([own + 1 != other, own + 2 != other, own + 1 == other])

    def advance(self, state, actions, draw):
        xp, decision, mover = self.xp, self.decision(state, actions), state.moves % 2
        is_mover = xp.arange(2) == mover
        step = xp.where(decision == 1, 2, xp.where(decision == 2, 2, 1))
        back = xp.where(decision == 2, 2, 0)
        stones = xp.where(is_mover, state.stones + step, xp.maximum(state.stones - back, 0))
        is_across = xp.any(is_mover & (stones >= LENGTH))
        return state.replace(stones=stones, moves=state.moves + 1, won=self.outcome(state, is_across))

    @jm.sensor(low=0.0, high=1.0, shape=(2, LENGTH))
    def places(self, state, player):
        xp = self.xp
        own_first = xp.stack([state.stones[player], state.stones[1 - player]])
        return own_first[:, None] == xp.arange(LENGTH)[None, :]

    root = ((0, 1), 0)

    @staticmethod
    def allowed(position):
        own, other = position[0][position[1]], position[0][1 - position[1]]
        return [2] if own + 1 == other else [0] if own + 2 == other else [0, 1]

    @staticmethod
    def played(position, decision):
        stones, mover = list(position[0]), position[1]
        stones[mover] += (1, 2, 2)[decision]
        if decision == 2:
            stones[1 - mover] = max(stones[1 - mover] - 2, 0)
        return tuple(stones), 1 - mover

    @staticmethod
    def result(position):
        return -1 if position[0][1 - position[1]] >= LENGTH else None

    @staticmethod
    def seen(position):
        stones, mover = position
        own_first = np.array([stones[mover], stones[1 - mover]])
        return {"places": own_first[:, None] == np.arange(LENGTH)[None, :]}


GAMES = {"stakes": Stakes, "heaps": Heaps, "ford": Ford}


@cache
def value(game, position):
    """What the player who moves gets where both do their best."""
    result = game.result(position)
    return (
        result
        if result is not None
        else max(-value(game, game.played(position, decision)) for decision in game.allowed(position))
    )


def judged(policy, game):
    """By player: decisions that give value away, of how many; and lines lost that did not have to be, of how many."""
    told = {}
    for seat, player in enumerate(("first", "second")):
        own_policy = policy.player(player)
        given, met, lost, lines = 0, 0, 0, 0
        worth = value(game, game.root) * (1 if game.root[1] == seat else -1)
        frontier = {(game.root, worth < 0): 1}
        while frontier:
            following = {}
            for (position, excused), count in frontier.items():
                allowed, is_own = game.allowed(position), position[1] == seat
                if is_own:
                    best, legal = value(game, position), [own_policy.spec.action.labels[d] for d in allowed]
                    allowed = [int(own_policy.choose(game.seen(position), legal=legal))]
                    met += 1
                    given += -value(game, game.played(position, allowed[0])) < best
                for decision in allowed:
                    after = game.played(position, decision)
                    worth = value(game, after) * (1 if after[1] == seat else -1)
                    if game.result(after) is not None:
                        lines, lost = lines + count, lost + count * (worth < 0 and not excused)
                    else:
                        # A line may be lost as long as no reply gave the policy a draw or a win.
                        key = (after, excused and worth < 0)
                        following[key] = following.get(key, 0) + count
            frontier = following
        told[player] = {"gave value away": [given, met], "lost lines": [lost, lines]}
    return told


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--games", default=",".join(GAMES))
    parser.add_argument("--methods", default="PPO,DQN")
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--steps", type=int, default=3_000_000)
    parser.add_argument("--past", type=int, default=8)
    parser.add_argument("--partners", choices=["past", "none"], default="past")
    options = parser.parse_args()
    warnings.simplefilter("ignore")
    for name in options.games.split(","):
        game = GAMES[name]
        exact = jm.solve(game()).of_players
        if exact["first"] != value(game, game.root):
            raise SystemExit(f"the rules of `{name}` differ: {exact} and {value(game, game.root)}")
        for method in options.methods.split(","):
            agent, steps = getattr(jm, method)(), options.steps if method == "PPO" else options.steps // 5
            roster = jm.Roster(
                jm.RandomPlay(), past=options.past, past_every=steps // 30, weights=[1.0, 1.0], rotate_seats=True
            )
            agents = {"first": agent, "second": roster} if options.partners == "past" else agent
            seconds = []
            for seed in range(options.seeds):
                began = time.perf_counter()
                run = jm.train(game(), agents, steps=steps, seed=seed, folder=None)
                seconds.append(time.perf_counter() - began)
                print(
                    json.dumps({"game": name, "method": method, "seed": seed, **judged(run.policy, game)}), flush=True
                )
            print(
                json.dumps({"game": name, "steps": steps, "seconds": round(statistics.median(seconds), 1)}), flush=True
            )


if __name__ == "__main__":
    main()
