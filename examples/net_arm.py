"""A machine with many joints, shaped in two rounds: an arm of three joints lays a net at a buoy.

The first round rewards nearness alone, and gets an arm that trembles at the buoy: trembling costs nothing. The second
round gives the term `jerk` its weight. Both runs have all terms in their records, so that the ledgers can be laid side
by side.
"""

import jokulmist as jm

JOINTS = 3


class NetArm(jm.Environment):
    """Turn three joints so that the end of the arm comes to the buoy, and stays there."""

    reach: float = jm.parameter(1.0, low=0.2, high=3.0, unit="m", help="Length of each part of the arm.")
    time_limit = 80

    class State(jm.State):
        angles: object = jm.seen(low=-3.2, high=3.2, unit="rad", shape=JOINTS)
        speeds: object = jm.seen(low=-4.0, high=4.0, unit="rad/s", shape=JOINTS)
        buoy: object = jm.seen(low=-3.0, high=3.0, unit="m", shape=2)
        pushed: object = jm.field(shape=JOINTS)
        change: float = jm.flow()

    action = jm.Range(-1.0, 1.0, shape=JOINTS)

    def begin(self, draw):
        xp, far, angle = self.xp, draw.uniform(1.0, 2.5), draw.uniform(-2.0, 2.0)
        buoy = xp.stack([far * xp.cos(angle), far * xp.sin(angle)])
        return self.State(
            angles=draw.normal(0.0, 0.3, shape=JOINTS), speeds=xp.zeros(JOINTS), buoy=buoy, pushed=xp.zeros(JOINTS)
        )

    def advance(self, state, action, draw):
        xp = self.xp
        speeds = xp.clip(0.9 * state.speeds + 0.5 * action, -4.0, 4.0)
        angles = xp.clip(state.angles + 0.05 * speeds, -3.2, 3.2)
        change = xp.sum(xp.square(action - state.pushed))
        return state.replace(angles=angles, speeds=speeds, pushed=action, change=change)

    def end_of(self, state):
        """Where the end of the arm is."""
        xp = self.xp
        turned = xp.cumsum(state.angles)
        return self.reach * xp.stack([xp.sum(xp.cos(turned)), xp.sum(xp.sin(turned))])

    @jm.sensor(low=-6.0, high=6.0, unit="m", shape=2)
    def way(self, state):
        return state.buoy - self.end_of(state)

    @jm.reward
    def near(self, after):
        return self.xp.exp(-self.xp.sum(self.xp.square(self.way(after))))

    @jm.reward(weight=0.0)  # recorded, and not paid for yet
    def jerk(self, after):
        return after.change

    @jm.measure(over="last")
    def left_over(self, after):
        return self.xp.sqrt(self.xp.sum(self.xp.square(self.way(after))))


if __name__ == "__main__":
    for title, weight in (("nearness alone", 0.0), ("and jerk costs", -0.05)):
        run = jm.train(NetArm(weights={"jerk": weight}), jm.PPO(), steps=300_000, seed=0, folder=None)
        last = run.episodes.tail(100)
        print(
            f"{title}: near {last['near'].mean():.1f} of 80, jerk {last['jerk'].mean():.1f}, "
            f"{last['left_over'].mean():.2f} m left over"
        )
