"""What is known of the shipped environments: exact ways, rays, and air that holds no more than it can."""

import numpy as np
import pytest

import jokulmist as jm
from jokulmist.gallery.skerry import COLUMNS, MOVES, REACH, ROCKS, ROWS


def test_the_shortest_way_is_as_long_as_the_chart_says_and_beams_stop_at_rocks():
    env = jm.gallery.Skerry()
    for seed in range(12):
        episode = env.episode(seed=seed)
        state = episode.state
        wanted = MOVES[state.chart, state.row, state.column]
        while not episode.over:
            state = episode.state
            for k, (turn, side) in enumerate(((3, 3), (0, 3), (0, 0), (0, 1), (1, 1))):  # ahead with or without a side
                next_value, across = (state.heading + turn) % 4, (state.heading + side) % 4
                down, right = ROWS[next_value], COLUMNS[next_value]
                if turn == 0 and side != 0:
                    down, right = down + ROWS[across], right + COLUMNS[across]
                free = 0
                while (
                    free < REACH
                    and not ROCKS[state.chart, state.row + (free + 1) * down, state.column + (free + 1) * right]
                ):
                    free += 1
                assert episode.observation.beams[k] == free
            episode.act(env.shortest_way(state))
        assert (episode.steps, episode.closed_by) == (wanted, "in_harbour")
    assert jm.tabulate_steps(env, 60)["nearest"].min() > 0


def test_the_greenhouse_keeps_to_its_physics():
    env = jm.gallery.Greenhouse()
    frame = jm.tabulate_steps(env, 144, policy="thermostat", seed=5)
    assert (frame["vapour"] <= env.holds(frame["warmth"]) + 1e-4).all()
    assert env.holds(20.0) == pytest.approx(17.3, rel=0.01)  # g/m3, from tables of saturated air
    assert (frame["sunlight"][:47] == 0.0).all()
    assert frame["sunlight"][50:90].max() > 0.15
    # Without heater the house cools towards the air outside; an open vent does it faster.
    closed, opened = (env.episode(seed=2) for _ in range(2))
    for _ in range(30):
        closed.act({"heater": 0.0, "vent": 0.0})
        opened.over or opened.act({"heater": 0.0, "vent": 1.0})
    assert opened.state.warmth < closed.state.warmth < 8.0
    assert opened.closed_by == "frozen"
    assert opened.totals["crop_lost"] == -25.0
    assert np.isclose(closed.measures["energy"], 0.0)
