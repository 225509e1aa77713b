"""The classes of what calls return; they are for annotations, and few have to be made by hand."""

from jokulmist.exporting.save import Exported
from jokulmist.records.rollouts import Rollout
from jokulmist.studies.comparison.comparison import Comparison
from jokulmist.studies.cross_play import CrossPlay
from jokulmist.studies.ratings import Ratings
from jokulmist.training.adapt import Adapted
from jokulmist.training.evaluation.evaluate import Evaluation
from jokulmist.training.evaluation.grid import EvaluationGrid
from jokulmist.training.redo import Redone
from jokulmist.training.runs.run import Runs
from jokulmist.training.solving.solution import Solution
from jokulmist.training.teaching.estimating import Estimate
from jokulmist.training.teaching.learn_from import Taught
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
