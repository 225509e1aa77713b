"""An episode by hand: it does what was declared, can be rewound, and tells what goes wrong."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from places import Camera, Corridor, Skiff, Snowfield

import jokulmist as jm
from jokulmist.environments.chance.noise import Domain, Noise
from jokulmist.errors import ActionError, BrokenEnvironment, SettingError
from jokulmist.lanes.plain import PlainLane


def test_a_corridor_by_hand():
    episode = Corridor().episode(seed=0)
    assert episode.observation.cell == 2
    episode.act("right")
    assert episode.terms == {"prize": 0.0, "effort": -0.1}
    episode.act(1)
    assert episode.reward == pytest.approx(0.9)
    assert (episode.over, episode.closed_by, episode.steps) == (True, "right_end", 2)
    assert episode.total == pytest.approx(0.8)
    with pytest.raises(ActionError, match=r"closed by `right_end` after 2 decisions.*seed=1"):
        episode.act("left")
    episode.back()
    assert not episode.over
    assert episode.observation.cell == 3


@settings(max_examples=25)
@given(st.lists(st.integers(0, 2), min_size=1, max_size=40), st.integers(0, 2**63 - 1), st.data())
def test_totals_are_the_sum_of_terms_and_going_back_repeats_the_same_chance(actions, seed, data):
    episode = jm.gallery.Tarn().episode(seed=seed)
    summed = dict.fromkeys(episode.totals, 0.0)
    for action in actions:
        episode.act(action)
        assert episode.reward == pytest.approx(sum(episode.terms.values()))
        for name, term in episode.terms.items():
            summed[name] += term
    assert episode.totals == pytest.approx(summed)
    assert episode.total == pytest.approx(sum(summed.values()))
    end, count = episode.state, data.draw(st.integers(0, len(actions)))
    episode.back(count)
    for action in actions[len(actions) - count :]:
        episode.act(action)
    assert episode.state == end


def test_another_seed_after_going_back_is_another_chance():
    episode = jm.gallery.Tarn().episode(seed=4)
    for _ in range(20):
        episode.act("hold")
    first = episode.state
    episode.back(10, seed=99)
    for _ in range(10):
        episode.act("hold")
    assert episode.state != first
    with pytest.raises(SettingError, match="from 0 to 20"):
        episode.back(21)
    with pytest.raises(SettingError, match="a seed is a whole number"):
        jm.gallery.Tarn().episode(seed=-1)


def test_a_true_end_wins_over_a_cut_and_the_first_declared_over_later_ones():
    seen = set()
    for seed in range(60):
        episode = Skiff().episode(seed=seed)
        while not episode.over:
            episode.act({"tack": "starboard", "sail": 1.0})
        seen.add(tuple(episode.satisfied))
        order = ["far", "too_far", "deadline", "calm", "time limit"]
        assert episode.satisfied == sorted(episode.satisfied, key=order.index)
        assert episode.closed_by == episode.satisfied[0]
    assert {("far", "too_far"), ("calm",)} <= seen
    still = Skiff().episode(seed=3)
    while not still.over:
        still.act({"tack": 0, "sail": 0.0})
        if still.closed_by == "calm":
            still.back(1, seed=still.steps + 1000)
    assert still.satisfied[:1] == ["deadline"]
    assert still.satisfied[-1] == "time limit"

    class Timed(Corridor):
        time_limit = None
        deadline = 1

        @jm.ending
        def anywhere(self, after):
            return after.cell >= 0

    timed = Timed(length=9).episode()
    timed.act(1)
    assert timed.satisfied == ["anywhere", "deadline"]  # the deadline takes no other ending away


def test_measures_are_summed_averaged_or_kept_as_declared():
    episode = Skiff().episode(seed=2)
    gusts, places = [], []
    while not episode.over and episode.steps < 10:
        episode.act({"tack": 1, "sail": 0.1})
        gusts.append(episode.state.gust)
        places.append(episode.state.place)
    assert episode.measures == pytest.approx({"strongest": max(gusts), "last_place": places[-1]})
    field = Snowfield().episode(seed=2)
    depths = []
    for _ in range(5):
        field.act("wait")
        depths.append(float(np.mean(field.state.depth)))
    assert field.measures["mean_depth"] == pytest.approx(np.mean(depths), rel=1e-5)


@pytest.mark.parametrize(
    ("action", "message"),
    [
        ("rihgt", "no action `rihgt`.*Did you mean `right`"),
        (2, "a whole number from 0 to 1; got 2"),
        (True, "got True"),
        (0.5, "got 0.5"),
        (None, "got None"),
    ],
)
def test_an_action_that_is_none_is_refused(action, message):
    with pytest.raises(ActionError, match=message):
        Corridor().episode().act(action)


def broken(**methods):
    return type("Broken", (Corridor,), methods)


@pytest.mark.parametrize(
    ("methods", "message"),
    [
        ({"advance": lambda self, state, action, draw: None}, "`Broken.advance` returned NoneType"),
        (
            {"advance": lambda self, state, action, draw: state.replace(cell=1.5)},
            r"gave `cell` the value 1.5; it is declared `int`",
        ),
        ({"advance": lambda self, state, action, draw: state.replace(cell=np.zeros(2))}, "declared `int`"),
        (
            {"advance": lambda self, state, action, draw: 1 / 0},
            r"`Broken.advance` \(test_episode.py:\d+\) failed: ZeroDivisionError",
        ),
        ({"prize": jm.reward(lambda self, after: [])}, r"failed: TypeError"),
    ],
)
def test_broken_code_is_told_with_method_and_line(methods, message):
    with pytest.raises(BrokenEnvironment, match=message):
        broken(**methods)().episode().act(0)


def test_the_arrays_of_a_state_cannot_be_written_into():
    class Writing(Snowfield):
        def advance(self, state, action, draw):
            state.depth[0, 0] = 3.0
            return state

    with pytest.raises(
        BrokenEnvironment, match=r"`Writing.advance` \(test_episode.py:\d+\) writes into an array.*jm.replace_item"
    ):
        Writing().episode(seed=1).act("wait")


def test_a_flag_is_not_a_number():
    class Flagged(jm.Environment):
        time_limit = 3

        class State(jm.State):
            open: bool = jm.seen()

        action = jm.Choice(2)

        def begin(self, draw):
            return self.State(open=1.0)

        def advance(self, state, action, draw):
            return state

        @jm.reward
        def gain(self, after):
            return 1.0

    with pytest.raises(BrokenEnvironment, match=r"declared `bool`. Use a comparison"):
        Flagged().episode()


@pytest.mark.slow
def test_an_image_is_a_channel_of_its_own():
    episode = Camera().episode(seed=4)
    seen = []
    while not episode.over:
        episode.act(1)
        image = episode.observation.seen
        assert (image.shape, image.dtype) == ((2, 4, 1), np.uint8)
        assert image[0].argmax() == episode.state.place
        seen.append(int(image.max()))
    episode.back(3)
    for _ in range(3):
        episode.act(1)
        assert int(episode.observation.seen.max()) == seen[episode.steps - 1]
    assert len(set(seen)) > 1
    run = jm.train(Camera(), jm.RandomPlay(), steps=60, copies=2, folder=None)
    assert (run.origin["lane"], len(run.episodes)) == ("compiled", 10)
    report = jm.check(Camera(), steps=50)
    assert report.ok
    assert report.compiles
    with pytest.raises(SettingError, match="`seen` is an image"):
        jm.train(Camera(), jm.QLearning(), steps=10)
    lane = PlainLane(Camera(), Noise(3, 3, Domain.TRAINING))
    pictures = lane.begin().images
    assert [p["seen"][0].argmax() for p in pictures] == [copy.state.place for copy in lane.each]
    for _ in range(7):
        outcome = lane.advance([1, 0, 1])
        assert [p["seen"][0].argmax() for p in outcome.observed.images] == [copy.state.place for copy in lane.each]


def test_loops_writes_and_slices_in_plain_python():
    assert jm.repeat(5, lambda i, x: x + i, 0) == 10
    assert jm.repeat_until(lambda x: x > 9, lambda x: x + 4, 0, at_most=2) == 8
    stored = np.arange(4)
    assert jm.replace_item(stored, 1, 9).tolist() == [0, 9, 2, 3]
    assert stored.tolist() == [0, 1, 2, 3]
    assert jm.slice_array(np.arange(12).reshape(3, 4), (2, 2), (2, 2)).tolist() == [[6, 7], [10, 11]]
    with pytest.raises(BrokenEnvironment, match="a start and a size for each of 2 axes"):
        jm.slice_array(np.zeros((2, 2)), 1, 1)


def test_the_gallery_pictures_draw_any_state():
    from matplotlib.figure import Figure

    for name in ("Tarn", "Ferry"):
        episode = getattr(jm.gallery, name)().episode(seed=1)
        episode.act(1)
        axes = Figure().add_subplot()
        episode.environment.picture(axes, episode.state)
        assert axes.get_title()
        assert math.isfinite(episode.total)
