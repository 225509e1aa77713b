"""The types of the public names, which are bound on first use."""

from jokulmist import errors as errors
from jokulmist import gallery as gallery
from jokulmist.agents.contract import Agent as Agent
from jokulmist.agents.contract import Scheduled as Scheduled
from jokulmist.agents.critics.ddpg import DDPG as DDPG
from jokulmist.agents.critics.sac import SAC as SAC
from jokulmist.agents.critics.td3 import TD3 as TD3
from jokulmist.agents.policies.actor_critic import ActorCritic as ActorCritic
from jokulmist.agents.policies.ppo import PPO as PPO
from jokulmist.agents.policies.reinforce import Reinforce as Reinforce
from jokulmist.agents.random_play import RandomPlay as RandomPlay
from jokulmist.agents.tables.q_learning import QLearning as QLearning
from jokulmist.agents.tables.sarsa import ExpectedSarsa as ExpectedSarsa
from jokulmist.agents.tables.sarsa import Sarsa as Sarsa
from jokulmist.agents.values.dqn import DQN as DQN
from jokulmist.agents.values.linear_q import LinearQ as LinearQ
from jokulmist.environments.declaration.environment import Environment as Environment
from jokulmist.environments.declaration.loops import put as put
from jokulmist.environments.declaration.loops import repeat as repeat
from jokulmist.environments.declaration.loops import until as until
from jokulmist.environments.declaration.loops import window as window
from jokulmist.environments.declaration.parts import (
    cut as cut,
)
from jokulmist.environments.declaration.parts import (
    derived as derived,
)
from jokulmist.environments.declaration.parts import (
    ending as ending,
)
from jokulmist.environments.declaration.parts import (
    measure as measure,
)
from jokulmist.environments.declaration.parts import (
    parameter as parameter,
)
from jokulmist.environments.declaration.parts import (
    reference as reference,
)
from jokulmist.environments.declaration.parts import (
    reward as reward,
)
from jokulmist.environments.declaration.parts import (
    sensor as sensor,
)
from jokulmist.environments.declaration.parts import (
    series as series,
)
from jokulmist.environments.declaration.simulator import Outcome as Outcome
from jokulmist.environments.declaration.simulator import Simulator as Simulator
from jokulmist.environments.declaration.simulator import channel as channel
from jokulmist.environments.declaration.state import State as State
from jokulmist.environments.declaration.state import field as field
from jokulmist.environments.declaration.state import flow as flow
from jokulmist.environments.declaration.state import seen as seen
from jokulmist.environments.modifiers import (
    Brighter as Brighter,
)
from jokulmist.environments.modifiers import (
    Clipped as Clipped,
)
from jokulmist.environments.modifiers import (
    Crop as Crop,
)
from jokulmist.environments.modifiers import (
    Delay as Delay,
)
from jokulmist.environments.modifiers import (
    Grey as Grey,
)
from jokulmist.environments.modifiers import (
    Hide as Hide,
)
from jokulmist.environments.modifiers import (
    LastAction as LastAction,
)
from jokulmist.environments.modifiers import (
    Late as Late,
)
from jokulmist.environments.modifiers import (
    LearningEnd as LearningEnd,
)
from jokulmist.environments.modifiers import (
    Noisy as Noisy,
)
from jokulmist.environments.modifiers import (
    Opening as Opening,
)
from jokulmist.environments.modifiers import (
    Potential as Potential,
)
from jokulmist.environments.modifiers import (
    Scaled as Scaled,
)
from jokulmist.environments.modifiers import (
    Shaky as Shaky,
)
from jokulmist.environments.modifiers import (
    Shrink as Shrink,
)
from jokulmist.environments.modifiers import (
    Signed as Signed,
)
from jokulmist.environments.modifiers import (
    Stack as Stack,
)
from jokulmist.environments.modifiers import (
    StickyAction as StickyAction,
)
from jokulmist.environments.modifiers import (
    TimeLeft as TimeLeft,
)
from jokulmist.environments.spaces.actions import Actions as Actions
from jokulmist.environments.spaces.actions import Choice as Choice
from jokulmist.environments.spaces.actions import Range as Range
from jokulmist.environments.transition.episode import Episode as Episode
from jokulmist.environments.varying import Levels as Levels
from jokulmist.environments.varying import between as between
from jokulmist.errors import JokulmistError as JokulmistError
from jokulmist.learning.networks.layout import Convolutional as Convolutional
from jokulmist.learning.networks.layout import Dense as Dense
from jokulmist.learning.schedules import geometric as geometric
from jokulmist.learning.schedules import linear as linear
from jokulmist.pictures.figures.behaviour import (
    plot_choices as plot_choices,
)
from jokulmist.pictures.figures.behaviour import (
    plot_policy as plot_policy,
)
from jokulmist.pictures.figures.behaviour import (
    plot_rollout as plot_rollout,
)
from jokulmist.pictures.figures.curve import plot as plot
from jokulmist.pictures.figures.grid import plot_grid as plot_grid
from jokulmist.pictures.figures.ledger import ledger as ledger
from jokulmist.pictures.replay import save_replay as save_replay
from jokulmist.pictures.report.page import save_report as save_report
from jokulmist.records.rollouts import Rollout as Rollout
from jokulmist.records.rollouts import read_rollouts as read_rollouts
from jokulmist.studies.comparison.compare import compare as compare
from jokulmist.studies.comparison.comparison import Comparison as Comparison
from jokulmist.studies.search.search import Search as Search
from jokulmist.studies.search.space import among as among
from jokulmist.studies.search.tune import tune as tune
from jokulmist.training.evaluation.evaluate import evaluate as evaluate
from jokulmist.training.evaluation.grid import evaluate_grid as evaluate_grid
from jokulmist.training.policies.policy import Policy as Policy
from jokulmist.training.redo import redo as redo
from jokulmist.training.rollouts.rollouts import follow as follow
from jokulmist.training.rollouts.rollouts import save_rollout as save_rollout
from jokulmist.training.runs.run import Run as Run
from jokulmist.training.runs.run import Runs as Runs
from jokulmist.training.session.resume import resume as resume
from jokulmist.training.train import train as train
from jokulmist.workshop.check.check import check as check
from jokulmist.workshop.trace import trace as trace

__version__: str
__all__: list[str]
