"""Which problems there are, what they vary, and for how many decisions each method is given them."""

from dataclasses import dataclass, field

import choosing
import telling

import jokulmist as jm

CHOICES = ("PPO", "DQN", "ActorCritic", "Reinforce")
RANGES = ("PPO", "SAC", "TD3", "DDPG", "ActorCritic", "Reinforce")
MIXED = ("PPO", "SAC", "ActorCritic", "Reinforce")
TABLES = ("QLearning", "Sarsa", "ExpectedSarsa", "LinearQ")
STEPS = {
    "PPO": 200_000,
    "ActorCritic": 500_000,
    "Reinforce": 500_000,
    "DQN": 100_000,
    "SAC": 20_000,
    "TD3": 20_000,
    "DDPG": 20_000,
    "QLearning": 1_000_000,
    "Sarsa": 1_000_000,
    "ExpectedSarsa": 1_000_000,
    "LinearQ": 300_000,
}
GOAL = dict.fromkeys(("PPO", "DQN"), 300_000)


@dataclass(frozen=True)
class Problem:
    """A problem with its level.

    Attributes
    ----------
    make : function
        Makes the environment.
    reference : str or float
        The environment's own rule, or the best return that long runs of `PPO` (1,500,000 decisions) and `SAC` (60,000)
        reached.
    methods : tuple of str
        Which methods it suits.
    what : str
        What it varies.
    steps : dict of str to int
        Decisions of a method, where they are not the usual ones.
    settings : dict of str to dict
        What has to be said of a problem whatever the defaults are: bins of a table, or a discount that its length asks
        for.
    """

    make: object
    reference: object
    methods: tuple
    what: str
    steps: dict = field(default_factory=dict)
    settings: dict = field(default_factory=dict)

    def decisions(self, method):
        return self.steps.get(method, STEPS[method])


def _signal():
    return telling.Signal().modified(jm.modifiers.Stack(8))


BALANCE = {"DQN": 150_000}
SWING = {"PPO": 300_000}
IMAGES = {"DQN": 50_000}

CHOOSING = {
    "mast": Problem(choosing.Mast, "feedback", CHOICES, "balance, +1 a step, bounds far too wide", BALANCE),
    "spar": Problem(choosing.Spar, "feedback", CHOICES, "balance, +1 a step, three choices, noise", BALANCE),
    "buoy": Problem(choosing.Buoy, -154.0, RANGES, "swing-up, one range", SWING),
    "bucket": Problem(
        choosing.Bucket,
        "with_the_swing",
        CHOICES + TABLES,
        "a goal to be found, -1 a step",
        GOAL,
        {name: {"bins": 20} for name in TABLES[:3]},
    ),
    "stones": Problem(choosing.Stones, "onward", CHOICES + TABLES, "sparse: one reward after 14 stones"),
    "stalls": Problem(choosing.Stalls, "nearest", CHOICES, "5 decisions, rewards of 0.001 in twice as much noise"),
    "valves": Problem(choosing.Valves, "rounded", CHOICES, "two parts of 8 choices"),
    "floats": Problem(choosing.Floats, "riccati", RANGES, "linear, 3 ranges, no bounds"),
    "berth": Problem(choosing.Berth, "switching", RANGES, "the best action stands at its bounds"),
    "kiln": Problem(choosing.Kiln, "nearest", CHOICES, "channels from 0.001 to 100,000, rewards of 10,000"),
    "lure": Problem(choosing.Lure, "outward", CHOICES + TABLES, "a local habit pays, a detour pays more"),
    "cistern": Problem(
        choosing.Cistern,
        "rule",
        CHOICES + TABLES,
        "1,000 decisions, heavy noise",
        {},
        {name: {"bins": 20} for name in TABLES[:3]},
    ),
    "wager": Problem(
        choosing.Wager, "by_the_mean", CHOICES, "skewed rewards: a sure amount, or ten times as much now and then"
    ),
    "spot": Problem(choosing.Spot, "towards", ("PPO", "DQN"), "images", IMAGES),
}
TELLING = {
    "barrel": Problem(telling.Barrel, "feedback", CHOICES, "balance, +1 a step, no bounds, noise", BALANCE),
    "derrick": Problem(
        telling.Derrick, 157.0, RANGES, "swing-up, one range with unequal bounds, rewards above 0", SWING
    ),
    "sound": Problem(
        telling.Sound,
        "rocking",
        CHOICES + TABLES,
        "a goal to be found, -1 a step",
        GOAL,
        {name: {"bins": 20} for name in TABLES[:3]},
    ),
    "ladder": Problem(telling.Ladder, "climb", CHOICES, "sparse, one-hot: six right choices, a wrong one goes back"),
    "auction": Problem(telling.Auction, "best_offer", CHOICES, "8 decisions, losses of 10,000s, 10 channels of noise"),
    "rig": Problem(telling.Rig, "by_the_book", MIXED, "a choice and a range at once"),
    "nets": Problem(telling.Nets, "riccati", RANGES, "linear, 8 ranges with unequal bounds, bounds far too wide"),
    "eddy": Problem(telling.Eddy, "cancelling", RANGES, "chaotic, noisy"),
    "sheds": Problem(telling.Sheds, "solved", CHOICES + TABLES, "whole numbers, chance; solved exactly"),
    "flats": Problem(
        telling.Flats,
        "straight",
        ("PPO", "DQN", *TABLES),
        "a goal that random play meets in one episode of a hundred, -1 a step",
        {"DQN": 120_000},
        {name: {"bins": 20} for name in TABLES[:3]},
    ),
    "pegs": Problem(telling.Pegs, "nearest", ("PPO", "DQN"), "one of 64 choices"),
    "errand": Problem(telling.Errand, "straight", CHOICES, "many goals"),
    "lantern": Problem(telling.Lantern, "straight", ("PPO", "DQN"), "images", IMAGES),
    "signal": Problem(_signal, "knowing", CHOICES, "a cue five decisions back, seen in a stack"),
}
# What needs a block beside the method: memory for a cue that is gone, novelty for what is met once in 10^9 episodes of
# random play.
MEMORY = {"network": jm.Recurrent(64, sequence=8, burn_in=0)}
RARELY = {"learn_every": 16, "minibatch": 16}
ROWS = {**MEMORY, **RARELY}
BLOCKS = {
    "cue": Problem(
        telling.Signal,
        "knowing",
        ("PPO", "ActorCritic", "Reinforce", "DQN", "SAC"),
        "a cue five decisions back that is gone: with memory",
        {"SAC": 60_000},
        {
            "PPO": MEMORY,
            "ActorCritic": MEMORY,
            "Reinforce": {**MEMORY, "horizon": 6},
            "DQN": ROWS,
            "SAC": ROWS,
        },
    ),
    "crossing": Problem(
        telling.Crossing,
        "knowing",
        ("DQN", "PPO"),
        "thirty right choices, a wrong one goes back: with novelty",
        {"PPO": 600_000, "DQN": 150_000},
        {
            "DQN": {"novelty": jm.Novelty(0.1)},
            "PPO": {"novelty": jm.Novelty(0.1)},
        },
    ),
}
TELLING.update(BLOCKS)
ALL = {**CHOOSING, **TELLING}
