"""Cases of the covering array of pairs of features (`benchmarks/crossings.py`), whose crossings failed once."""

import pytest
from commands import benchmark

import jokulmist as jm
from jokulmist.errors import SettingError


@pytest.fixture(scope="module")
def crossings():
    return benchmark("crossings")


def case_of(crossings, **other):
    return {name: values[0] for name, values in crossings.FACTORS.items()} | other


@pytest.mark.slow
@pytest.mark.parametrize(
    "other",
    [
        # parts of an action that are kept beyond an update, in a checkpoint of a run without the compiler
        {"method": "Reinforce", "action": "mixed", "players": "at once", "deciding": "held"},
        # a replay memory that is too small for as many copies as an evaluation has
        {"method": "DQN", "masks": "legal", "players": "turns", "varying": "vary", "best": "evaluation"},
    ],
    ids=lambda other: f"{other['method']}, {other['players']}",
)
def test_features_that_meet_are_right_in_six_ways(crossings, other, tmp_path):
    assert crossings.tried(case_of(crossings, **other), tmp_path) == {}


def test_a_potential_of_a_simulator_is_refused(crossings, tmp_path):
    with pytest.raises(SettingError, match="`Potential` looks into the state, and `Weir` is a simulator"):
        crossings.environment_of(case_of(crossings, world="simulator", modified="potential"), tmp_path)


def test_what_so_many_copies_cannot_learn_is_refused_before_a_folder_is_made(crossings, tmp_path):
    weir = crossings.environment_of(case_of(crossings, players="at once"), tmp_path)
    with pytest.raises(SettingError, match="an agent of its own for each player"):
        jm.train(weir, jm.Sarsa(trace_decay=0.8), copies=1, steps=100, folder=tmp_path / "runs")
    with pytest.raises(SettingError, match="`replay_size` of 64 leaves 1 decisions to each of 64 copies"):
        jm.train(weir, jm.DQN(replay_size=64, minibatch=8), copies=32, steps=1_000, folder=tmp_path / "runs")
    assert not (tmp_path / "runs").exists()
