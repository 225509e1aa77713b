"""What many tests need made once: policies that have learned nothing, for what does not depend on learning."""

import numpy as np

from jokulmist.agents.contract import hyperparameters_at
from jokulmist.agents.players import agents_of
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.loops.agent_calls import as_numpy
from jokulmist.loops.policy import Policy


def fresh_policy(agent, environment, seed=3):
    """A policy as it is before the first decision, without any training."""
    spec = describe(environment).spec
    agent = agents_of(agent, spec.action)
    draw = PlainDraw(Noise(seed, 1, Domain.TRAINING), Stream.FRESH).for_step(0, 0)
    learner = agent.fresh_learner(agent.config(spec, 1), hyperparameters_at(agent.schedules()), draw)
    return Policy(agent, spec, as_numpy(agent.policy_state(learner)))


def rows_of(environment, count, seed=0):
    """Observations of random play, one a row."""
    episode, result, chance = environment.episode(seed=seed), [], np.random.default_rng(seed)
    labels = environment.action.labels
    while len(result) < count:
        result.append(episode.observation)
        episode.act(labels[chance.integers(len(labels))])
        if episode.over:
            episode = environment.episode(seed=seed + len(result))
    return result
