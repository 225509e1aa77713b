"""Runs laid side by side: grouped by what differs, judged on one scale, told in tables and figures."""

import json

import numpy as np
import pandas as pd
import pytest
from places import Corridor
from typer.testing import CliRunner

import jokulmist as jm
from jokulmist.command.comparing import show
from jokulmist.command.main import app
from jokulmist.errors import LookupFailed, SettingError
from jokulmist.running.runs.scores import Score, final_episodes, score_of
from jokulmist.studies.comparison.curves import curve_of, length_of, on_places
from jokulmist.studies.comparison.grouping import grouped

LEARNS, BLIND = {"learning_rate": 0.5, "exploration": 0.2}, {"learning_rate": 0.0, "exploration": 0.2}


def trained(folder, seeds=range(4), steps=1500, environment=None, agent=None, **more):
    environment = Corridor(slip=0.1) if environment is None else environment
    agent = jm.QLearning(**LEARNS) if agent is None else agent
    return list(
        jm.train_seeds(environment, agent, steps=steps, seeds=seeds, folder=folder, lane="plain", workers=1, **more)
    )


@pytest.fixture(scope="module")
def runs(tmp_path_factory):
    """Four seeds that learn to go right, and four that cannot learn."""
    folder = tmp_path_factory.mktemp("runs")
    return trained(folder) + trained(folder, agent=jm.QLearning(**BLIND))


@pytest.fixture(scope="module")
def found(runs):
    return jm.compare(runs)


@pytest.mark.slow
def test_groups_come_from_what_differs_and_the_difference_is_found(found, runs):
    assert found.by == ["agent.learning_rate"]
    assert found.table["group"].tolist() == ["learning_rate 0", "learning_rate 0.5"]
    blind, learned = found.table.to_dict("records")
    # From the middle two steps right: 1 - 2 x 0.1. A table of zeros breaks ties at random.
    assert learned["score"] == pytest.approx(0.8)
    assert learned["seeds"] == 4
    assert learned["learned"] == 1.0
    assert blind["learned"] < 1.0
    assert blind["low"] <= blind["score"] <= blind["high"]
    assert learned["area"] > blind["area"]
    pair = found.pairs.iloc[0]
    assert pair["verdict"] == "different"
    assert pair["p"] == pytest.approx(2 / 70)
    assert pair["chance"] == 0.0
    assert pair["more_seeds"] == 0.0
    scores = found.scores.set_index("run")["score"]
    for run in runs:
        assert scores[run.name] == pytest.approx(jm.evaluate(run.policy, run.environment, episodes=100).mean)
    assert "different" in repr(found)


def test_the_final_episodes_are_played_once_and_kept_with_the_run(runs):
    frame = final_episodes(runs[0], 30, seed=9)
    size = len(runs[0].evaluated)
    assert final_episodes(runs[0], 30, seed=9)["return"].tolist() == frame["return"].tolist()
    assert len(runs[0].evaluated) == size
    plain = score_of(runs[0], Score(episodes=30, seed=9))
    unweighted = score_of(runs[0], Score(episodes=30, seed=9, weights={"effort": 0.0}))
    assert unweighted == pytest.approx(frame["prize"].mean())
    assert plain < unweighted
    assert score_of(runs[0], Score("return")) == pytest.approx(runs[0].episodes["return"].tail(100).mean(), rel=1e-6)
    with pytest.raises(SettingError, match=r"`score` is 'prise'; of `Corridor` it can be `return`, `evaluation`"):
        score_of(runs[0], Score("prise"))


@pytest.mark.parametrize("over", ["steps", "episodes", "seconds"])
def test_curves_are_the_mean_of_the_last_hundred_on_places_that_all_share(runs, over):
    found = jm.compare(runs, over=over)
    run = runs[5]
    curve = found.curves[found.curves["run"] == run.name]
    frame = run.episodes
    rolling = frame["return"].rolling(100, min_periods=10).mean()
    position = {"steps": frame["decisions"], "episodes": np.arange(1, len(frame) + 1)}.get(over)
    if position is not None:
        for place, value in zip(curve["at"], curve["value"], strict=True):
            before = np.flatnonzero(np.asarray(position) <= place)
            output = rolling[before[-1]] if len(before) else np.nan
            assert value == pytest.approx(output, nan_ok=True, abs=1e-6)
    assert curve["at"].max() == pytest.approx(min(length_of(item, over) for item in runs))
    assert on_places(*curve_of(run, over), np.array([-1.0]))[0] != on_places(*curve_of(run, over), np.array([-1.0]))[0]
    middle = found.middle.dropna()
    assert (middle["low"] <= middle["middle"] + 1e-9).all()
    assert (middle["middle"] <= middle["high"] + 1e-9).all()


def test_the_profile_falls_from_all_seeds_to_none_and_is_counted(found):
    for label, part in found.profile.groupby("group"):
        share = part["share"].to_numpy()
        assert share[0] == 1.0
        assert share[-1] == 0.0
        assert np.all(np.diff(share) <= 0)
        scores = found.scores[found.scores["group"] == label]["score"].to_numpy()
        for score, output in zip(part["score"], share, strict=True):
            assert output == pytest.approx(np.mean(scores > score))


@pytest.mark.parametrize("ending", ["pdf", "svg", "png"])
def test_a_figure_is_saved_with_its_numbers_beside(found, tmp_path, ending):
    saved = found.save(tmp_path / f"figure.{ending}")
    assert saved[0].read_bytes()[:4] in (b"%PDF", b"\x89PNG", b"<?xm")
    assert len(saved) == 7
    back = pd.read_csv(tmp_path / "figure-table.csv")
    assert back["score"].tolist() == pytest.approx(found.table["score"].tolist(), rel=1e-6)
    with pytest.raises(SettingError, match=r"saved as .pdf, .svg or .png; got 'figure.xls'"):
        found.save(tmp_path / "figure.xls")


def test_plot_draws_on_given_axes(found):
    from matplotlib.figure import Figure

    axes = Figure().add_subplot()
    assert found.plot(axes) is axes
    labels = [text.get_text() for text in axes.get_legend().get_texts()]
    assert labels[:2] == ["learning_rate 0  (4 seeds)", "learning_rate 0.5  (4 seeds)"]
    assert any(label.startswith("reference go_right") for label in labels)


@pytest.mark.slow
def test_runs_of_different_length_are_compared_on_what_they_share(runs, tmp_path):
    longer = trained(tmp_path, seeds=range(10, 14), steps=3000, agent=jm.QLearning(learning_rate=0.3, exploration=0.2))
    found = jm.compare(runs[:4] + longer)
    assert any("different length, 1,500 to 3,000 decisions" in note for note in found.notes)
    assert found.middle["at"].max() == pytest.approx(1500)
    for run in longer:
        position, mean = curve_of(run, "steps")
        output = found.scores[(found.scores["run"] == run.name) & (found.scores["seed"] == run.seed)]["score"].item()
        assert output == pytest.approx(mean[np.flatnonzero(position <= 1500)[-1]])
    with pytest.raises(SettingError, match=r"different length cannot be compared by `age`|`score` is 'age'"):
        jm.compare(runs[:4] + longer, score="age")


def test_the_same_run_twice_is_no_more_evidence(runs, tmp_path):
    repeated = trained(tmp_path, seeds=[0])
    found = jm.compare([*runs, *repeated])
    assert found.table["seeds"].tolist() == [4, 4]
    assert any("counted once" in note for note in found.notes)


def test_few_seeds_say_so_and_how_many_more(runs):
    found = jm.compare({"blind": runs[4:7], "learns": runs[:3]})
    assert found.pairs["verdict"].tolist() == ["too few seeds to say"]
    assert any("with fewer than 4 no test can decide" in note for note in found.notes)
    assert any("more seed" in note and "a side would be needed" in note for note in found.notes)


@pytest.mark.slow
def test_returns_under_different_weights_are_no_scale(runs, tmp_path):
    reweighted = trained(tmp_path, environment=Corridor(slip=0.1, weights={"effort": -0.5}))
    with pytest.raises(
        SettingError, match=r"rewarded by different weights \(`effort`: -0.1 and -0.5\).*--weights effort=-0.1"
    ):
        jm.compare(runs[:4] + reweighted)
    found = jm.compare(runs[:4] + reweighted, weights={"effort": -0.1})
    assert found.by == ["environment.weights.effort"]
    assert found.table["score"].tolist() == pytest.approx([0.8, 0.8])
    with pytest.raises(SettingError, match="`weights` names `efort`"):
        jm.compare(runs[:4] + reweighted, weights={"efort": 1.0})


class Passage(Corridor):
    """The same corridor with a prize of another size."""

    @jm.reward
    def prize(self, after):
        return 100.0 * (after.cell == self.length - 1)


@pytest.mark.slow
def test_environments_are_normalised_between_random_play_and_reference(runs, tmp_path):
    passage = [
        run
        for agent in (LEARNS, BLIND)
        for run in trained(tmp_path, environment=Passage(slip=0.1), agent=jm.QLearning(**agent))
    ]
    found = jm.compare([*runs, *passage])
    assert found.by == ["agent.learning_rate"]
    assert found.value == "normalised return"
    blind, learned = found.table.to_dict("records")
    assert learned["score"] == pytest.approx(1.0, abs=0.02)  # as good as the reference in both
    assert learned["seeds"] == blind["seeds"] == 8
    assert blind["score"] < 0.5
    assert found.pairs["verdict"].tolist() == ["different"]
    assert found.level == 0.5
    only = jm.compare(runs[:4] + passage[:4])  # one agent: the environments are what differs
    assert only.by[0] == "environment.use"


@pytest.mark.slow
def test_grouping_by_a_name_or_its_end_and_what_differs_within(runs, tmp_path, capsys):
    more = trained(tmp_path, agent=jm.QLearning(learning_rate=0.5, exploration=0.4))
    criterion = grouped([*runs, *more], "learning_rate")
    assert [len(group.runs) for group in criterion.groups] == [4, 8]
    assert "`agent.exploration` differs within groups" in criterion.notes[0]
    assert [group.label for group in grouped([*runs, *more]).groups] == [
        "learning_rate 0, exploration 0.2",
        "learning_rate 0.5, exploration 0.2",
        "learning_rate 0.5, exploration 0.4",
    ]
    with pytest.raises(
        LookupFailed, match=r"no plan here has a setting `rate`; the runs differ in `agent.learning_rate`"
    ):
        grouped(runs, "rate")
    with pytest.raises(
        SettingError, match=r"there is one group and nothing to compare.*`--set agent.learning_rate=0.1`"
    ):
        grouped(runs[:4])
    with pytest.raises(SettingError, match="1 run was given"):
        grouped(runs[:1])
    methods = [*runs[:4], *trained(tmp_path, agent=jm.Sarsa(**LEARNS))]
    assert [group.label for group in grouped(methods).groups] == ["QLearning", "Sarsa"]
    show(jm.compare(methods))
    assert "2 groups by method\n" in capsys.readouterr().out


@pytest.mark.slow
def test_the_command_tells_table_pairs_and_notes(runs, tmp_path):
    folder = runs[0].path.parent
    displayed = CliRunner().invoke(app, ["compare", str(folder), "--to", str(tmp_path / "c.svg")])
    assert displayed.exit_code == 0, displayed.output
    for words in (
        "2 groups by agent.learning_rate",
        "interquartile mean",
        "Permutation test over seeds, 5%",
        "different",
    ):
        assert words in displayed.output
    output = CliRunner().invoke(
        app,
        ["compare", *(str(run.path) for run in runs), "--against", "0.5", "--json", "--to", str(tmp_path / "d.png")],
    )
    content = json.loads(output.stdout)
    assert [group["seeds"] for group in content["groups"]] == [4, 4]
    assert content["pairs"][0]["second"] == "learning_rate 0.5"
    assert len(content["files"]) == 7
    for words, expected in (
        (["compare", str(tmp_path / "nothing")], "there is no run"),
        (["compare", str(tmp_path)], "is no run, and holds none"),
        (["compare", str(folder), "--over", "days"], '`over` must be "steps", "episodes" or "seconds"'),
        (["compare", str(folder), "--weights", "prize"], "`--weights` takes a reward term and its weight"),
    ):
        wrong = CliRunner().invoke(app, words)
        assert expected in str(wrong.exception)
