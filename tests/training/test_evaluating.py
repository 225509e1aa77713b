"""Evaluations beside the training: by another process, the same numbers, whatever becomes of that process."""

import time

import psutil
import pytest

import jokulmist as jm
from jokulmist.training.session import evaluating
from jokulmist.training.session.evaluating import MOST_WAITING, Evaluator

FILES = ("evaluated.csv", "episodes.csv", "plan.toml")


def trained(folder, monkeypatch, worth, steps=4096):
    monkeypatch.setattr(evaluating, "WORTH_SECONDS", worth)
    environment, agent = jm.gallery.Tarn(), jm.QLearning(bins=8)
    told = {"evaluate_every": 512, "evaluate_episodes": 5, "best_by": "evaluation", "checkpoint_every": 2048}
    return jm.train(environment, agent, steps=steps, copies=4, lane="plain", folder=folder, **told)


@pytest.fixture(scope="module")
def alone(tmp_path_factory):
    with pytest.MonkeyPatch.context() as patch:
        return trained(tmp_path_factory.mktemp("alone"), patch, 1e9)


def others():
    return [one for one in psutil.Process().children() if "jokulmist.training.session.evaluating" in one.cmdline()]


@pytest.mark.slow
def test_a_run_is_the_same_with_another_process_that_evaluates(alone, tmp_path, monkeypatch):
    beside = trained(tmp_path, monkeypatch, 0.0)
    for name in FILES:
        assert (alone.path / name).read_bytes() == (beside.path / name).read_bytes(), name
    assert beside.best.decisions == alone.best.decisions
    assert (beside.best.learner.values == alone.best.learner.values).all()
    assert not others()  # it has ended with the run


@pytest.mark.slow
def test_the_other_process_gives_the_same_numbers_and_may_die(alone, monkeypatch):
    monkeypatch.setattr(evaluating, "WORTH_SECONDS", 0.0)
    told = []
    evaluator = Evaluator(alone.environment, 5, alone.path, True, lambda policy, found: told.append((policy, found)))
    evaluator.ask(alone.policy, to_come=10.0)
    wanted = told.pop()[1].columns
    with monkeypatch.context() as patch:
        patch.setattr(evaluating, "evaluate", None)  # what is told now, the other process has found
        evaluator.ask(alone.policy, to_come=10.0)
        until = time.monotonic() + 60.0
        while not told and time.monotonic() < until:
            time.sleep(0.02)
            evaluator.look()
    found = told.pop()[1].columns
    assert {name: (own.dtype, own.tolist()) for name, own in found.items()} == {
        name: (own.dtype, own.tolist()) for name, own in wanted.items()
    }
    evaluator.ask(alone.best, to_come=10.0)  # it is at work on this one
    evaluator.look()
    (other,) = others()
    other.kill()
    other.wait()
    evaluator.ask(alone.policy, to_come=10.0)
    evaluator.settle()
    assert [policy.decisions for policy, _ in told] == [alone.best.decisions, alone.policy.decisions]
    assert told[1][1].mean == jm.evaluate(alone.policy, alone.environment, episodes=5, seed=evaluating.SEED).mean
    evaluator.close()


def test_policies_do_not_pile_up_where_evaluating_takes_longer_than_training(alone, monkeypatch):
    monkeypatch.setattr(evaluating, "WORTH_SECONDS", 0.0)
    told = []
    evaluator = Evaluator(alone.environment, 2, alone.path, True, lambda policy, found: told.append(policy))
    for asked in range(12):
        evaluator.ask(alone.policy, to_come=10.0)
        assert asked + 1 - len(told) <= MOST_WAITING
    evaluator.settle()
    assert len(told) == 12
    evaluator.close()


@pytest.mark.parametrize("second_core", [True, False])
def test_no_process_is_started_where_none_is_worth_it(alone, second_core, monkeypatch):
    monkeypatch.setattr(evaluating, "WORTH_SECONDS", 1e9 if second_core else 0.0)
    evaluator = Evaluator(alone.environment, 2, alone.path, second_core, lambda policy, found: None)
    evaluator.ask(alone.policy, to_come=1e3)
    assert not others()
