"""A tug clears ice floes out of the harbour: a simulator on a rigid-body engine, its copies in worker processes.

The engine (pymunk: `pip install "jokulmist[examples]"`) keeps the state, so nobody can copy it: the class derives from
`jm.Simulator`.
"""

import math
import sys

import numpy as np
import pymunk

import jokulmist as jm

TICKS, TICK = 6, 1.0 / 30.0
BEAMS = 9


class HarbourTug(jm.Simulator):
    """Push the floes out through the gap in the east wall, without ramming anything.

    Good play noses the nearest floe from the west and carries it east. Random play returns about -0.4 and clears none;
    after 300,000 decisions PPO returns about 1.2 and clears one floe in three episodes. The sounding beams cannot tell
    ice from stone.
    """

    floes: int = jm.parameter(3, low=1, high=8, fixed=True)
    reach: float = jm.parameter(30.0, low=5.0, high=60.0, unit="m", help="How far a sounding beam reaches.")
    time_limit = 250

    observation = {
        "beams": jm.channel(low=0.0, high=30.0, shape=BEAMS, unit="m"),
        "place": jm.channel(low=-1.0, high=1.0, shape=2),
        "heading": jm.channel(low=-1.0, high=1.0, shape=2),
        "speed": jm.channel(low=-6.0, high=6.0, unit="m/s"),
        "turning": jm.channel(low=-2.0, high=2.0, unit="rad/s"),
        "nearest": jm.channel(low=-1.0, high=1.0, shape=2),
        "left": jm.channel(values=9),
    }
    action = jm.Choice("astern", "port", "ahead", "starboard")
    terms = {"cleared": 1.0, "moved_east": 0.05, "rammed": -0.001, "fuel": -0.002}
    endings = ("all_clear", "holed")
    measures = {"hardest_knock": "max"}

    def begin(self, seed):
        chance = np.random.default_rng(seed)
        self.space = space = pymunk.Space()
        space.damping = 0.6
        ground = space.static_body
        walls = [(-20, -12, 20, -12), (-20, 12, 20, 12), (-20, -12, -20, 12), (20, -12, 20, -5), (20, 5, 20, 12)]
        for x0, y0, x1, y1 in walls:
            wall = pymunk.Segment(ground, (x0, y0), (x1, y1), 0.5)
            wall.elasticity, wall.friction = 0.2, 0.5
            space.add(wall)
        self.tug = pymunk.Body(8.0, pymunk.moment_for_box(8.0, (4.0, 2.0)))
        self.tug.position = (float(chance.uniform(-17, -12)), float(chance.uniform(-8, 8)))
        self.tug.angle = float(chance.uniform(-0.5, 0.5))
        hull = pymunk.Poly.create_box(self.tug, (4.0, 2.0))
        hull.filter, hull.friction, hull.collision_type = pymunk.ShapeFilter(group=1), 0.5, 1
        space.add(self.tug, hull)
        self.ice = []
        for k in range(self.floes):
            floe = pymunk.Body(3.0, pymunk.moment_for_circle(3.0, 0.0, 1.5))
            across = (k + 0.5) / self.floes * 16.0 - 8.0
            floe.position = (float(chance.uniform(-6, 10)), float(across + chance.uniform(-1, 1)))
            space.add(floe, pymunk.Circle(floe, 1.5))
            self.ice.append(floe)
        self.knock = 0.0
        space.on_collision(1, None, post_solve=self._knocked)
        return self._observed()

    def _knocked(self, arbiter, space, data):
        self.knock = max(self.knock, arbiter.total_impulse.length)

    def advance(self, action):
        before, self.knock = sum(floe.position.x for floe in self.ice), 0.0
        out = 0
        for _ in range(TICKS):
            thrust, turn = ((-40.0, 0.0), (25.0, 30.0), (60.0, 0.0), (25.0, -30.0))[action]
            self.tug.apply_force_at_local_point((thrust, 0.0), (0.0, 0.0))
            self.tug.torque += turn
            self.space.step(TICK)
        moved = sum(floe.position.x for floe in self.ice) - before
        for floe in [floe for floe in self.ice if floe.position.x > 22.0]:
            self.space.remove(floe, *floe.shapes)
            self.ice.remove(floe)
            out += 1
        holed = self.knock > 60.0
        return jm.Outcome(
            self._observed(),
            terms={"cleared": out, "moved_east": moved, "rammed": self.knock, "fuel": float(action == 2)},
            closed_by="all_clear" if not self.ice else "holed" if holed else None,
            measures={"hardest_knock": self.knock},
        )

    def _observed(self):
        tug = self.tug
        beams = np.full(BEAMS, self.reach, np.float32)
        for k in range(BEAMS):
            angle = tug.angle + math.pi * (k / (BEAMS - 1) - 0.5)
            far = tug.position + pymunk.Vec2d(math.cos(angle), math.sin(angle)) * self.reach
            met = self.space.segment_query_first(tug.position, far, 0.1, pymunk.ShapeFilter(group=1))
            if met is not None:
                beams[k] = met.alpha * self.reach
        ahead = tug.velocity.dot(tug.rotation_vector)
        return {
            "beams": np.clip(beams, 0.0, 30.0),
            "place": np.clip([tug.position.x / 25.0, tug.position.y / 12.0], -1.0, 1.0),
            "heading": [math.cos(tug.angle), math.sin(tug.angle)],
            "speed": float(np.clip(ahead, -6.0, 6.0)),
            "turning": float(np.clip(tug.angular_velocity, -2.0, 2.0)),
            "nearest": self._nearest(),
            "left": len(self.ice),
        }

    def _nearest(self):
        """Where the nearest floe lies as the lookout calls it: ahead and to port, in shares of 25 m."""
        if not self.ice:
            return [0.0, 0.0]
        seen = [floe.position - self.tug.position for floe in self.ice]
        nearest = min(seen, key=lambda away: away.length)
        bow = self.tug.rotation_vector
        return np.clip([nearest.dot(bow) / 25.0, bow.cross(nearest) / 25.0], -1.0, 1.0)

    def image(self):
        """Seen from above: stone grey, floes white, the tug red with a dark bow."""
        height, width, scale = 200, 360, 8.0
        seen = np.full((height, width, 3), (28, 62, 86), np.uint8)
        y, x = np.mgrid[0:height, 0:width]
        east, north = (x + 0.5) / scale - 21.0, 12.5 - (y + 0.5) / scale
        stone = (np.abs(north) > 11.5) | (east < -19.5) | ((np.abs(east - 20.0) < 0.5) & (np.abs(north) > 5.0))
        seen[stone] = (120, 124, 128)
        for floe in self.ice:
            seen[np.hypot(east - floe.position.x, north - floe.position.y) < 1.5] = (235, 242, 246)
        cos, sin = math.cos(self.tug.angle), math.sin(self.tug.angle)
        ahead = (east - self.tug.position.x) * cos + (north - self.tug.position.y) * sin
        across = (north - self.tug.position.y) * cos - (east - self.tug.position.x) * sin
        hull = (np.abs(ahead) < 2.0) & (np.abs(across) < 1.0)
        seen[hull] = (196, 62, 48)
        seen[hull & (ahead > 1.2)] = (90, 20, 20)
        return seen


STEPS = 4_000  # enough to see it go; `python examples/harbour_tug.py 300000` learns to push a floe out now and then

if __name__ == "__main__":
    harbour = HarbourTug()
    print(jm.check(harbour, steps=300, speed=False))
    steps = int(sys.argv[1]) if len(sys.argv) > 1 and sys.argv[1].isdigit() else STEPS
    run = jm.train(harbour, jm.PPO(entropy_bonus=0.01), steps=steps, seed=0, copies=4, processes=True, folder=None)
    print(f"trained: the last 100 episodes returned {run.mean_return():.2f}")
    for who in (run.policy, "random"):
        result = jm.evaluate(who, harbour, episodes=5)
        print(f"{result}  floes cleared {result.episodes['cleared'].mean():.2f}")
