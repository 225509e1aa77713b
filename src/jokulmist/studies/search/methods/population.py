"""A population that copies the best and perturbs their settings while it trains."""

from __future__ import annotations

import math

from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError, listed
from jokulmist.studies.search.candidates import OPEN, Board, Instalment
from jokulmist.studies.search.methods.protocol import ByScore, SearchProblem, halts, whole_steps
from jokulmist.studies.search.space import AGENT, WEIGHTS, Among, with_settings

WORST = 0.25
STEP = 0.12


class Population(ByScore):
    """All members train side by side; at each look the worst quarter go on from copies of the best, with settings a
    step away.

    Jaderberg et al. (2017), "Population based training of neural networks", algorithm 1, with truncation selection.

    Notes
    -----
    Only numbers can change while a run trains: settings that are traced, parameters that give no shape or bound,
    weights of reward terms. Differs from the paper: all members are compared at the same decisions, so that a search is
    the same whatever the number of workers; perturbed is the place in the range, by a normal step of 12 %. What is
    found is a course of settings; the last ones alone may do worse from the begin on, and the rerun shows whether they
    do.
    """

    def __init__(self, problem: SearchProblem) -> None:
        if not whole_steps(problem):
            raise SettingError(
                "a population is compared at shares of a run, so the plan must give its length in `steps`."
            )
        if len(problem.plan.training.seeds) > 1:
            raise SettingError(
                "a population has one run a member, each with a seed of its own; got the seeds "
                f"{list(problem.plan.training.seeds)}. Give one seed, and more `candidates`."
            )
        if problem.candidates < 4:
            raise SettingError(f"a population needs at least 4 members; got `candidates` {problem.candidates}.")
        refuse_shapes(problem)
        self.problem = problem
        self.halts = halts(problem, [(k + 1) / problem.looks for k in range(problem.looks)])
        self.untils = self.halts[::-1]

    @property
    def decisions(self) -> float:
        return float(self.problem.candidates * whole_steps(self.problem))

    def next(self, board: Board) -> Instalment | None:
        number = len(board.candidates)
        if number < self.problem.candidates:
            return Instalment(board.add(self.problem.space.sample(self.problem.draw(number))).number, self.halts[0])
        alive = [c for c in board.candidates if c.status == OPEN]
        if not alive:
            return None
        look = min(len(c.scores) for c in alive)
        if not board.running and look > 0 and look < len(self.halts) and all(len(c.scores) == look for c in alive):
            self._select(board, look)
        for candidate in board.candidates:
            behind = candidate.status == OPEN and candidate.until is None and len(candidate.scores) == look
            if behind and look < len(self.halts):
                return Instalment(candidate.number, self.halts[look])
        return None

    def _select(self, board: Board, look: int) -> None:
        """Let the worst, and those that failed, go on from copies of the best."""
        ranked = board.ranked(self.halts[look - 1])
        count = max(1, int(len(ranked) * WORST))
        best = [c for merit, c in ranked[:count] if math.isfinite(merit)]
        worst = [c for merit, c in ranked if not math.isfinite(merit)] or [c for _, c in ranked[-count:]]
        for candidate in worst:
            if candidate in best:
                continue
            draw = self.problem.draw(candidate.number, look)
            donor = best[int(draw.integers(len(best)))]
            candidate.history.append(
                {"until": self.halts[look - 1], "settings": candidate.settings, "copied": donor.number}
            )
            candidate.settings = self.problem.space.neighbour(donor.settings, draw, STEP)
            candidate.scores = {until: dict(scores) for until, scores in donor.scores.items()}
            candidate.status, candidate.message, candidate.copies = OPEN, "", donor.number


def refuse_shapes(problem: SearchProblem) -> None:
    """Raise `SettingError` for a setting that cannot change while a run trains."""
    base = problem.plan
    traced = set(base.agent.schedules())
    spec = describe(base.environment).spec
    outline = describe(base.environment).outline
    limits = {getattr(type(base.environment), limit) for limit in ("deadline", "time_limit", "decide_every")}
    for name, dimension in problem.space.over.items():
        ends = dimension.values if isinstance(dimension, Among) else tuple(problem.space.spread(name, 2))
        setting = name.partition(".")[2]
        if name.startswith(AGENT):
            able = setting in traced and all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in ends)
        elif name.startswith(WEIGHTS):
            able = True
        else:
            parameters = {p.name: p for p in outline.parameters}
            able = setting in parameters and not parameters[setting].fixed and setting not in limits
            able = able and all(describe(with_settings(base, {name: v}).environment).spec == spec for v in ends)
        if not able:
            raise SettingError(
                f"`{name}` cannot change while a run trains, so a population cannot search over it; what can is "
                f"{listed(AGENT + n for n in sorted(traced))}, "
                f"parameters that give no shape or bound, and reward weights. Search by another method."
            )
