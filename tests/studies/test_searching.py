"""The methods of a search on made-up scores: workers that answer at once, by a formula, in any order."""

import math
from collections import deque

import numpy as np
import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.plans.plan import Plan, Training
from jokulmist.plans.progress import RunProgress
from jokulmist.running.workers.jobs import WorkerMessage
from jokulmist.studies.search.candidates import FAILED, Board
from jokulmist.studies.search.engine import Engine
from jokulmist.studies.search.importance import fitted, importance_of
from jokulmist.studies.search.progress import LiveSearchDisplay, SilentSearchDisplay, board_of
from jokulmist.studies.search.settings import SearchSettings, Tuning
from jokulmist.studies.search.space import Space

OVER = {
    "agent.learning_rate": jm.between(1e-3, 1.0, scale="log"),
    "agent.exploration": jm.between(0.0, 1.0),
    "agent.bins": jm.between(2, 20, whole=True),
}


class MadeUp:
    """Workers that train nothing: the score follows from the settings, the order of the answers from `later`."""

    def __init__(self, score, count=3, later=lambda tag: 0):
        self.count, self.score, self.later = count, score, later
        self.at_work, self.given, self.idle = deque(), [], []
        self.stop_after = math.inf

    def free(self):
        return len(self.at_work) < self.count

    def give(self, tag, job):
        self.at_work.append((self.later(tag), len(self.given), tag, job))
        self.given.append((tag, job))

    def receive(self, timeout):
        self.idle.append(self.count - len(self.at_work))
        if len(self.given) >= self.stop_after:
            tag = self.at_work.popleft()[2]
            return WorkerMessage("done", tag, result={})  # as a run answers that was interrupted
        first = min(self.at_work)
        self.at_work.remove(first)
        _, _, tag, job = first
        score = self.score(job)
        if isinstance(score, str):
            return WorkerMessage("failed", tag, text=score)
        until = job.until or job.plan["training"]["steps"]
        return WorkerMessage(
            "done", tag, result={"score": score, "decisions": until, "took": 0.1, "sd": 1.0, "judged": 100}
        )

    def stop(self): ...

    def close(self): ...


def hill(job):
    """The best is a learning rate of 0.05, exploration 0.3; bins do not matter; training longer helps all alike."""
    agent = job.plan["agent"]
    rate = math.log10(agent["learning_rate"] / 0.05)
    more = 0.001 * (job.until or job.plan["training"]["steps"])
    return more - rate**2 - 4.0 * (agent["exploration"] - 0.3) ** 2


def searched(
    tmp_path,
    score=hill,
    over=OVER,
    steps=900,
    seeds=(0,),
    count=3,
    later=lambda tag: 0,
    board=None,
    stop_after=math.inf,
    **tuning,
):
    plan = Plan(Corridor(), jm.QLearning(), Training(steps=steps, seeds=seeds))
    question = SearchSettings(plan, Tuning(**{"again": 2, **tuning}), over)
    board = board or Board(question.plan.training.seeds, question.tuning.better == "higher")
    executor = MadeUp(score, count, later)
    executor.stop_after = stop_after
    engine = Engine(question, tmp_path, board, executor, SilentSearchDisplay(), ["a test"])
    engine.finished = engine.run()
    return engine


def test_random_candidates_hang_on_their_number_alone(tmp_path):
    item = searched(tmp_path, candidates=12, count=1)
    many = searched(tmp_path, candidates=12, count=5, later=lambda tag: (tag[0] * 7) % 5)
    assert [c.settings for c in item.board.candidates] == [c.settings for c in many.board.candidates]
    assert [c.scores for c in item.board.candidates] == [c.scores for c in many.board.candidates]
    best = max(item.board.candidates, key=lambda c: c.scores["0"]["0"])
    assert item.board.winner == best.number
    # The winner is run again on seeds that no candidate had.
    assert set(item.board.again) == {"1000", "1001"}
    assert searched(tmp_path, candidates=12, seed=1).board.candidates[0].settings != best.settings


def test_a_candidate_is_scored_by_the_mean_of_its_seeds(tmp_path):
    engine = searched(tmp_path, score=lambda job: hill(job) + job.seed, seeds=(0, 4), candidates=5, method="random")
    for candidate in engine.board.candidates:
        scores = candidate.scores["0"]
        assert set(scores) == {"0", "4"}
        assert engine.board.merit(candidate, 0) == pytest.approx(np.mean(list(scores.values())))
        output = engine.board.shown_score(candidate, 0)
        assert output.low <= output.score <= output.high


def test_halving_trains_the_best_third_further_and_no_worker_waits(tmp_path):
    engine = searched(tmp_path, method="halving", candidates=27, count=4, later=lambda tag: (tag[0] * 5) % 7)
    board, executor = engine.board, engine.executor
    assert engine.question.method.rungs == [100, 300, 0]
    reached = {rung: [c for c in board.candidates if str(rung) in c.scores] for rung in (100, 300, 0)}
    assert len(reached[100]) == 27
    assert 9 <= len(reached[300]) <= 12  # early promotions are of the best so far
    assert 3 <= len(reached[0]) <= 6
    first = sorted((c.scores["100"]["0"] for c in board.candidates), reverse=True)
    assert {c.scores["100"]["0"] for c in reached[300]} >= set(first[:3])
    assert board.winner in {c.number for c in reached[0]}
    assert board.candidates[board.winner].scores["100"]["0"] == first[0]
    # Nobody waits for a rung to fill: hands are idle only when the last ones are at work.
    arguments = len(executor.given) - len(board.again)
    assert sum(executor.idle[: arguments - 6]) == 0
    # A leg goes on in the same folder, up to the next rung.
    instalments = [job for tag, job in executor.given if tag[0] == board.winner]
    assert [job.until for job in instalments] == [100, 300, None]
    assert len({job.path for job in instalments}) == 1


def test_few_candidates_of_halving_still_end_with_one_that_was_trained_whole(tmp_path):
    engine = searched(tmp_path, method="halving", candidates=2)
    assert "0" in engine.board.candidates[engine.board.winner].scores


@pytest.mark.slow
def test_a_gaussian_process_finds_the_hill_that_random_search_finds_later(tmp_path):
    """Three searches each of 18 candidates: how far the best is from the top."""

    def left(method, seed):
        board = searched(tmp_path, method=method, candidates=18, seed=seed, count=2, again=0, steps=1).board
        return -board.ranked(0)[0][0]

    model = np.median([left("gaussian-process", seed) for seed in range(3)])
    chance = np.median([left("random", seed) for seed in range(3)])
    assert model < 0.5 * chance
    assert model < 0.1


def test_a_grid_tries_every_combination_once(tmp_path):
    space = {"agent.learning_rate": jm.among(0.01, 0.05, 0.5), "agent.exploration": jm.between(0.1, 0.5)}
    engine = searched(
        tmp_path,
        over=space,
        method="grid",
        points=3,
        score=lambda job: -abs(job.plan["agent"]["learning_rate"] - 0.05) - abs(job.plan["agent"]["exploration"] - 0.3),
    )
    assert len({repr(c.settings) for c in engine.board.candidates}) == len(engine.board.candidates) == 9
    assert engine.board.candidates[engine.board.winner].settings == {
        "agent.learning_rate": 0.05,
        "agent.exploration": 0.3,
    }


@pytest.mark.slow
@pytest.mark.parametrize("method", ["random", "halving", "gaussian-process"])
def test_a_candidate_that_fails_is_recorded_and_the_search_goes_on(tmp_path, method):
    def score(job):
        bins = job.plan["agent"]["bins"]
        return "MemoryError" if bins > 16 else math.nan if bins < 4 else hill(job)

    engine = searched(tmp_path, score=score, method=method, candidates=20)
    failed = [c for c in engine.board.candidates if c.status == FAILED]
    assert {c.message.split(",")[0] for c in failed} <= {"MemoryError", "no episode closed"}
    assert len(failed) >= 2
    assert engine.finished
    assert len(engine.board.candidates) == 20
    assert engine.board.candidates[engine.board.winner].status != FAILED


def test_nothing_but_failures_has_no_winner(tmp_path):
    engine = searched(tmp_path, score=lambda job: "broken", candidates=4)
    assert engine.finished
    assert engine.board.winner is None


@pytest.mark.slow
@pytest.mark.parametrize("method", ["random", "halving", "gaussian-process"])
@pytest.mark.parametrize("stop_after", [1, 7, 13])
def test_a_search_that_was_broken_off_goes_on_where_it_was(tmp_path, method, stop_after):
    complete = searched(tmp_path, method=method, candidates=14, count=1)
    (tmp_path / "again").mkdir()
    torn = searched(tmp_path / "again", method=method, candidates=14, count=1, stop_after=stop_after)
    assert not torn.finished
    board = Board.open(tmp_path / "again")
    assert board.running  # what was on its way is known
    repeated = searched(tmp_path / "again", method=method, candidates=14, count=1, board=board)
    assert repeated.finished
    assert [(c.settings, c.scores) for c in repeated.board.candidates] == [
        (c.settings, c.scores) for c in complete.board.candidates
    ]
    assert repeated.board.winner == complete.board.winner
    trained = {(tag, job.until) for tag, job in torn.executor.given[: stop_after - 1]}
    assert not trained & {(tag, job.until) for tag, job in repeated.executor.given}  # nothing is trained twice


def test_a_measure_may_be_better_when_it_is_lower(tmp_path):
    def score(job):
        return -hill(job)

    plan = Plan(jm.gallery.Ferry(), jm.QLearning(), Training(steps=100))
    question = SearchSettings(plan, Tuning(score="final_speed", better="lower", candidates=10, again=0), OVER)
    engine = Engine(question, tmp_path, Board((0,), higher=False), MadeUp(score), SilentSearchDisplay(), [])
    engine.run()
    scores = [c.scores["0"]["0"] for c in engine.board.candidates]
    assert scores[engine.board.winner] == min(scores)


def test_the_live_view_tells_candidates_the_best_so_far_and_the_time_left(tmp_path):
    from rich.console import Console

    engine = searched(tmp_path, method="halving", candidates=9, stop_after=6)
    engine.outstanding = {(3, 0), (4, 0)}
    engine.running[(3, 0)] = RunProgress(50, 4, 0.5, 1.25, 100.0, 0.5)
    engine.board.candidates[2].status = FAILED
    engine.board.seconds = 30.0
    console = Console(width=130, record=True, file=open("/dev/null", "w"))  # noqa: SIM115
    console.print(board_of(engine.view()))
    text = console.export_text()
    for words in (
        "halving, scored by return",
        "1 failed",
        "best so far",
        "over episodes of one seed",
        "left",
        "50%",
        "learning_rate",
    ):
        assert words in text
    lines = Console(width=200, record=True, file=open("/dev/null", "w"))  # noqa: SIM115
    display = LiveSearchDisplay(lines)
    display.begin("search")
    display.update(engine.view())
    display.end()
    assert "candidates scored, 1 failed" in lines.export_text()


@pytest.mark.slow
def test_what_mattered_is_found_and_what_did_not_is_not(tmp_path):
    engine = searched(tmp_path, candidates=60, again=0)
    result = importance_of(engine.question, engine.board)
    table = result.table.set_index("setting")
    assert result.explained > 0.5
    assert table.loc["agent.learning_rate", "low"] > 0.1
    assert table.loc["agent.learning_rate", "matters"] > 4 * abs(table.loc["agent.bins", "matters"])
    assert table.loc["agent.bins", "matters"] < 0.1
    rate = result.slices[result.slices["setting"] == "agent.learning_rate"]
    assert 0.01 < rate.loc[rate["expected"].astype(float).idxmax(), "value"] < 0.3


@pytest.mark.slow
def test_where_scores_are_luck_it_says_that_the_settings_explain_nothing():
    space, draw = Space(OVER), np.random.default_rng(0)
    tried = [space.sample(draw) for _ in range(40)]
    result = fitted(space, tried, draw.normal(size=40))
    assert result.explained < 0.2
    assert (result.table["low"] < 0.05).all()
    assert "explain next to nothing" in result.note or result.explained >= 0.1
    few = fitted(space, tried[:5], draw.normal(size=5))
    assert "5 candidates are too few" in few.note
    assert few.table["matters"].isna().all()
    assert "no setting mattered" in fitted(space, tried, np.ones(40)).note


@pytest.mark.slow
def test_halving_is_judged_by_scores_of_equally_long_training(tmp_path):
    engine = searched(tmp_path, method="halving", candidates=30, again=0)
    result = importance_of(engine.question, engine.board)
    assert result.candidates == 30
    assert result.note.startswith("scores are those after 100 decisions")
