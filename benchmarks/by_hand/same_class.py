"""Q-learning by hand that drives the same environment class as the library does.

NumPy's generator has the draws that the tarn asks for under the same names, so the class runs as it is.
"""

import numpy as np


def train(environment, steps, seed=0, bins=20):
    """Train for so many decisions; returns the returns of the episodes and the table."""
    chance = np.random.default_rng(seed)
    hours = environment.hours
    table = np.zeros((bins, hours + 1, 3))
    edges = np.linspace(0.0, environment.capacity, bins + 1)[1:-1]
    rows = []

    def cell(state):
        seen = np.array([state.level, state.hour])
        return int(np.digitize(seen[0], edges)), int(seen[1])

    state = environment.begin(chance)
    place = cell(state)
    sales = flooding = energy = highest = 0.0
    for step in range(steps):
        exploration = max(0.05, 1.0 - 0.95 * step / (0.5 * steps))
        if chance.random() < exploration:
            action = int(chance.integers(3))
        else:
            action = int(np.argmax(table[place]))
        before = state.replace(released=0.0, spilled=0.0)
        state = environment.advance(before, action, chance)
        sold, flooded = environment.sales(before, state), environment.flooding(state)
        reward = sold - 2.0 * flooded
        sales, flooding = sales + sold, flooding + flooded
        energy += environment.energy(state)
        highest = max(highest, environment.highest_level(state))
        ended = environment.washed_out(state) or state.hour >= hours
        following = cell(state)
        target = reward if ended else reward + np.max(table[following])
        table[place][action] += 0.1 * (target - table[place][action])
        place = following
        if ended:
            rows.append((sales - 2.0 * flooding, sales, flooding, energy, highest))
            sales = flooding = energy = highest = 0.0
            state = environment.begin(chance)
            place = cell(state)
    return np.array(rows), table
