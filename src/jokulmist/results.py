"""The classes of what calls return; they are for annotations, and few have to be made by hand."""

from jokulmist.exporting.save import Exported
from jokulmist.judging.estimating import Estimate
from jokulmist.judging.evaluate import Evaluation
from jokulmist.judging.grid import EvaluationGrid
from jokulmist.judging.solving.solution import Solution
from jokulmist.loops.learn_from import Taught
from jokulmist.records.rollouts import Rollout
from jokulmist.running.adapt import Adapted
from jokulmist.running.redo import Redone
from jokulmist.running.runs.run import Runs
from jokulmist.studies.comparison.comparison import Comparison
from jokulmist.studies.cross_play import CrossPlay
from jokulmist.studies.ratings import Ratings
from jokulmist.workshop.check.report import CheckReport

__all__ = [
    "Adapted",
    "CheckReport",
    "Comparison",
    "CrossPlay",
    "Estimate",
    "Evaluation",
    "EvaluationGrid",
    "Exported",
    "Ratings",
    "Redone",
    "Rollout",
    "Runs",
    "Solution",
    "Taught",
]
