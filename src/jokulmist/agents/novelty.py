"""A method that also seeks what is new: its rewards are made larger by what was seldom met, before it learns from
them."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import cache
from typing import Any, NamedTuple

import numpy as np

from jokulmist.agents.batches import as_flat, in_parts, in_rows, seed_from
from jokulmist.agents.configs import Hyperparameters, NoveltyConfig, TableConfig
from jokulmist.agents.contract import Agent, Experience
from jokulmist.agents.policies.policy_method import PolicyAgent
from jokulmist.agents.tables.cells import array_ops, grid_for
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.actions import parts_of
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import joint_over
from jokulmist.learning.advantages import discounted_sums
from jokulmist.learning.networks.inputs import apply_network
from jokulmist.learning.networks.layout import Layout, build_network, usual_network
from jokulmist.learning.observation_scaling import Running, fresh_running, gathered, met, prepared
from jokulmist.learning.optimisation import descend, first_moments
from jokulmist.learning.replay import Bonus
from jokulmist.learning.reward_scaling import followed, spread_of
from jokulmist.learning.schedules import Coefficients, coefficients
from jokulmist.trees import replaced

FEATURES = 32
ROWS = 256
# Of the targets of novelty's own value, and how often it goes over them.
TRACE_DECAY, EPOCHS = 0.95, 4
MOST_COUNTED = 50_000_000
MOST_BY_ITSELF = 1_000_000


class NoveltyState(NamedTuple):
    """What was met.

    Attributes
    ----------
    counts : float32, shape ``(cells * actions,)``; empty by distillation
    target, weights : float32, shape ``(size,)``; empty by counts
        The network that stays as it began, and the one that predicts it.
    moments : the optimiser's state
    statistics, returns : Running
        That scale what is seen, and the novelty.
    judge : float32, shape ``(size,)``; empty unless the method learns a policy
        The network of the novelty's own value.
    judge_moments : the optimiser's state
    """

    counts: Any
    target: Any
    weights: Any
    moments: Any
    statistics: Running | None
    returns: Running | None
    judge: Any = ()
    judge_moments: Any = ()


class NoveltyLearner(NamedTuple):
    """What a method has learned, and what was met."""

    inner: Any
    novelty: NoveltyState


class Seeking(Agent):
    """A method with its setting `novelty`, as a loop drives it; made by `seeking`."""

    inner: Any

    def config(self, spec: Spec, copies: int) -> NoveltyConfig:
        inner = self.inner.config(spec, copies)
        novelty = self.inner.novelty
        measure = novelty.by or ("counts" if isinstance(inner, TableConfig) or _countable(spec) else "distillation")
        config = NoveltyConfig(
            spec=spec,
            copies=copies,
            kind=type(self.inner),
            inner=inner,
            by=measure,
            discount_per=inner.discount_per,
            grid=None,
            layout=None,
            actions=1,
            judge=None,
        )
        if measure == "counts":
            config.grid = inner.grid if isinstance(inner, TableConfig) else grid_for(spec, novelty.bins, "Novelty")
            choices = len(choices_of(spec.action)) == len(parts_of(spec.action))
            config.actions = joint_over(spec.action).count if choices else 1
            if config.grid.cells * config.actions > MOST_COUNTED:
                raise SettingError(
                    f"`Novelty` would count {config.grid.cells * config.actions:,} things; at most {MOST_COUNTED:,} "
                    "are counted. Use fewer `bins`, or "
                    f'`by="distillation"`.'
                )
        else:
            config.layout = _layout(usual_network(spec), spec, 0)
        if isinstance(self.inner, PolicyAgent):
            config.judge = _layout(usual_network(spec), spec, 0, 1)
        return config

    def schedules(self) -> dict[str, Coefficients]:
        novelty_numbers = {
            f"novelty_{name}": coefficients(float(getattr(self.inner.novelty, name)))
            for name in ("weight", "discount", "learning_rate")
        }
        return {**self.inner.schedules(), **novelty_numbers}

    def copies_for(self, steps: int | None, begins_with_learned: bool = False) -> int:
        return int(self.inner.copies_for(steps, begins_with_learned))

    def decisions_per_update(self, copies: int) -> int:
        return int(self.inner.decisions_per_update(copies))

    def remembers(self) -> bool:
        return bool(self.inner.remembers())

    @staticmethod
    def fresh_learner(config: NoveltyConfig, hyperparameters: Hyperparameters, noise: Draw) -> NoveltyLearner:
        inner_learner = config.kind.fresh_learner(config.inner, hyperparameters, noise)
        seed = seed_from(noise) if config.judge is not None or config.by == "distillation" else 0
        judge: tuple[Any, ...] = ()
        if config.judge is not None:
            initial = _layout(usual_network(config.spec), config.spec, seed + 2, 1).initial_weights()
            judge = (initial, first_moments("adam", initial))
        if config.by == "counts":
            if hasattr(config.inner, "grid"):
                inner_learner.values[...] = np.maximum(inner_learner.values, unmet(hyperparameters))
            counts = np.zeros(config.grid.cells * config.actions, np.float32)
            seen = fresh_running(config.spec.width) if judge else None
            return NoveltyLearner(inner_learner, NoveltyState(counts, (), (), (), seen, None, *judge))
        target, weights = (
            _layout(usual_network(config.spec), config.spec, seed + k).initial_weights() for k in range(2)
        )
        moments = first_moments("adam", weights)
        seen = fresh_running(config.spec.width)
        return NoveltyLearner(inner_learner, NoveltyState((), target, weights, moments, seen, fresh_running(1), *judge))

    @staticmethod
    def fresh_memory(config: NoveltyConfig, hyperparameters: Hyperparameters) -> Any:
        inner_memory = config.kind.fresh_memory(config.inner, hyperparameters)
        return {"own": inner_memory, "open": np.zeros(config.copies, np.float32) if config.by == "distillation" else ()}

    @staticmethod
    def choose(
        config: NoveltyConfig,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Any, Any]:
        actions, inner_memory, policy_extras = config.kind.choose(
            config.inner, hyperparameters, inner_of(learner), memory["own"], observed, noise, explore
        )
        return actions, {**memory, "own": inner_memory}, policy_extras

    @staticmethod
    def learn(
        config: NoveltyConfig,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        experience: Experience,
        noise: Draw,
    ) -> tuple[Any, Any, tuple[Any, ...]]:
        import jax.numpy as jnp

        if config.by == "counts":
            state, new = counted(config, learner.novelty, experience)
            open_now: Any = ()
        else:
            state, new, open_now = predicted(config, hyperparameters, learner.novelty, memory["open"], experience)
        more = hyperparameters.novelty_weight * new
        if config.kind.replays:
            bonus = Bonus(more, lambda sample: hyperparameters.novelty_weight * novelty_of(config, state, sample))
            inner_learner, own_memory, inner_readings = config.kind.learn(
                config.inner, hyperparameters, learner.inner, memory["own"], experience, noise, bonus
            )
            return (
                NoveltyLearner(inner_learner, state),
                {"own": own_memory, "open": open_now},
                (*inner_readings, jnp.mean(more)),
            )
        rewards = experience.rewards + more
        if config.judge is not None:
            state, next_values = update_value_pass(config, hyperparameters, learner.novelty, state, experience, new)
            rewards = experience.rewards + hyperparameters.novelty_weight * next_values
        inner_learner, own_memory, inner_readings = config.kind.learn(
            config.inner, hyperparameters, learner.inner, memory["own"], experience._replace(rewards=rewards), noise
        )
        return (
            NoveltyLearner(inner_learner, state),
            {"own": own_memory, "open": open_now},
            (*inner_readings, jnp.mean(more)),
        )

    @staticmethod
    def restarted(memory: Any, new: Any, mask: Any) -> Any:
        raise NotImplementedError("each class of methods has its own")


def _countable(spec: Spec) -> bool:
    """Whether all that is seen are whole numbers, and there are not too many of them."""
    if spec.images or not all(channel.whole and channel.bounded for channel in spec.numbers):
        return False
    cells = math.prod(channel.bins(1) ** channel.size for channel in spec.numbers)
    return bool(cells <= MOST_BY_ITSELF)


def inner_of(learner: Any) -> Any:
    """What a method itself has learned, from all that a loop has or from what a policy keeps."""
    return learner.inner if isinstance(learner, NoveltyLearner) else learner


def unmet(hyperparameters: Hyperparameters) -> Any:
    """What a table holds where nothing was met yet: as if everything were new from there on, for at most a hundred
    decisions (Jin et al., 2018, algorithm 1, begins with the highest value, too). Else what was never tried would look
    worse than what was tried once."""
    return hyperparameters.novelty_weight / np.maximum(1.0 - hyperparameters.discount, 0.01)


def novelty_of(config: NoveltyConfig, state: NoveltyState, sample: Any) -> Any:
    """How new decisions from replay are by what was met until now: a bonus that was stored would stay as large as it
    was then."""
    import jax.numpy as jnp

    if config.by == "counts":
        entry = config.grid.place(list(sample.observed.numbers.T), array_ops())[0]
        if config.actions > 1:
            entry = entry * config.actions + sample.action[:, 0].astype(jnp.int32)
        return 1.0 / jnp.sqrt(jnp.maximum(state.counts[entry], 1.0))
    layout = config.layout
    inputs = prepared(config.spec, "running", state.statistics, sample.following)
    wanted, prediction = (apply_network(layout.module(weights), inputs) for weights in (state.target, state.weights))
    return jnp.mean(jnp.square(prediction - wanted), axis=1) / spread_of(state.returns)


def counted(config: NoveltyConfig, state: NoveltyState, experience: Experience) -> tuple[NoveltyState, Array]:
    """The counts after some turns, and of each decision one over the root of how often it was made there, itself
    included."""
    import jax.numpy as jnp

    rows = in_rows(experience.observed)
    cell = config.grid.place(list(rows.numbers.T), array_ops())[0]
    entry = cell
    if config.actions > 1:
        entry = cell * config.actions + joint_over(config.spec.action).index(in_rows(experience.actions))
    counts = state.counts.at[entry].add(1.0)
    new = 1.0 / jnp.sqrt(counts[entry])
    return state._replace(counts=counts), new.reshape(experience.rewards.shape)


def predicted(
    config: NoveltyConfig,
    hyperparameters: Hyperparameters,
    state: NoveltyState,
    open_before: Any,
    experience: Experience,
) -> tuple[NoveltyState, Any, Any]:
    """What was learned of some turns, how badly what followed each decision was predicted, in spreads of its returns,
    and the open returns."""
    import jax.numpy as jnp

    layout, last = config.layout, in_rows(experience.last)
    inputs = prepared(config.spec, "running", state.statistics, last)
    wanted = apply_network(layout.module(state.target), inputs)

    def error(leaves: Any, inputs: Any, wanted: Any) -> Any:
        return jnp.mean(jnp.square(apply_network(layout.combined(leaves), inputs) - wanted), axis=1)

    new = error(layout.leaves(state.weights), inputs, wanted).reshape(experience.rewards.shape)
    # unscaled, everything is far from everything
    new = jnp.where(state.statistics.count > 0.0, new, 0.0)  # type: ignore[union-attr]
    nowhere = jnp.zeros_like(experience.closed)  # it goes on over the end of an episode
    new_returns, open_now = followed(open_before, new, nowhere, hyperparameters.novelty_discount)
    returns = gathered(state.returns, new_returns[..., None])
    weights, moments = one_pass(
        layout,
        lambda leaves, *part: jnp.mean(error(leaves, *part)),
        hyperparameters.novelty_learning_rate,
        (state.weights, state.moments),
        (inputs, wanted),
    )
    after = state._replace(
        weights=weights, moments=moments, statistics=gathered(state.statistics, met(experience)), returns=returns
    )
    return after, new / spread_of(returns), open_now


def update_value_pass(
    config: NoveltyConfig,
    hyperparameters: Hyperparameters,
    before: NoveltyState,
    novelty_state: NoveltyState,
    experience: Experience,
    new: Any,
) -> tuple[NoveltyState, Any]:
    """How much better than predicted what followed each decision was in novelty, by a value of its own with a discount
    of its own.

    ``n + discount v(s') - v(s)`` goes on over the end of an episode: what is new in the next one counts, too (Burda et
    al., 2019, section 2.3). A method that learns a policy is given these errors in the place of the novelty: their sum,
    as its advantages take it, is the advantage of the novelty, and its own value has nothing to learn of it.
    """
    import jax.numpy as jnp
    from jax import lax

    layout = config.judge
    rows = [in_rows(seen) for seen in (experience.observed, experience.following)]
    inputs, after = (prepared(config.spec, "running", before.statistics, seen) for seen in rows)
    module = layout.module(before.judge)
    values, next_values = (apply_network(module, batch)[:, 0].reshape(new.shape) for batch in (inputs, after))
    errors = new + hyperparameters.novelty_discount * next_values - values
    decay = jnp.full(new.shape, jnp.float32(hyperparameters.novelty_discount * TRACE_DECAY))
    wanted = (values + discounted_sums(errors, decay)).reshape(-1)

    def loss(leaves: Any, batch: Any, targets: Any) -> Any:
        return jnp.mean(jnp.square(apply_network(layout.combined(leaves), batch)[:, 0] - targets))

    def epoch(state: Any, _: Any) -> Any:
        return one_pass(layout, loss, hyperparameters.novelty_learning_rate, state, (inputs, wanted)), None

    (weights, moments), _ = lax.scan(epoch, (before.judge, before.judge_moments), None, length=EPOCHS)
    statistics = novelty_state.statistics
    if config.by == "counts":
        statistics = gathered(statistics, met(experience))
    return novelty_state._replace(judge=weights, judge_moments=moments, statistics=statistics), errors


def one_pass(
    layout: Layout, loss: Callable[..., Any], rate: Any, state: tuple[Any, Any], rows: tuple[Any, Any]
) -> tuple[Any, Any]:
    """Weights and the optimiser's state after a step down a loss on each part of the rows, of about `ROWS` of them;
    what is left over is left out."""
    import jax
    from jax import lax

    count = rows[1].shape[0]
    steps = max(1, count // ROWS)
    size = count // steps

    def step(state: Any, part: Any) -> Any:
        weights, moments = state
        gradients = jax.grad(lambda leaves: loss(leaves, *part))(layout.leaves(weights))
        weights, moments, _ = descend("adam", weights, moments, as_flat(gradients), rate)
        return (weights, moments), None

    batch = jax.tree.map(lambda leaf: leaf[: steps * size], rows)
    after: tuple[Any, Any] = lax.scan(step, state, in_parts(batch, steps, size))[0]
    return after


def _layout(network: Any, spec: Spec, seed: int, outputs: int = FEATURES) -> Layout:
    return Layout(network, lambda: build_network(network, spec, outputs, seed))


def seeking(agent: Agent) -> Agent:
    """What a loop drives: the agent, or where it has the setting `novelty`, the agent with that around it."""
    if getattr(agent, "novelty", None) is None:
        return agent
    if not agent.traced:
        raise SettingError(f"`novelty` is for methods that can be compiled, and `{type(agent).__name__}` is not.")
    return _class_of(type(agent))(inner=agent)


def refuse_novelty(agent: Agent, why: str) -> None:
    """Raise `SettingError` where an agent has the setting and it cannot be."""
    if getattr(agent, "novelty", None) is not None:
        raise SettingError(f"`novelty` of `{type(agent).__name__}` {why}. Leave it out.")


@cache
def _class_of(kind: type[Agent]) -> type[Seeking]:
    """The class for a method: what is static of an agent belongs to a class."""

    def stored(learner: Any) -> Any:
        return kind.policy_state(learner.inner)

    def recorded(memory: Any) -> tuple[Any, ...]:
        return kind.recorded(memory["own"])

    def restarted(memory: Any, new: Any, mask: Any) -> Any:
        open_now = memory["open"] if isinstance(memory["open"], tuple) else replaced(mask, new["open"], memory["open"])
        return {"own": kind.restarted(memory["own"], new["own"], mask), "open": open_now}

    return type(
        f"Seeking{kind.__name__}",
        (Seeking,),
        {
            "__module__": Seeking.__module__,
            "policy_state": staticmethod(stored),
            "recorded": staticmethod(recorded),
            "restarted": staticmethod(restarted),
            "record_names": kind.record_names,
            "reading_names": (*kind.reading_names, "novelty"),
            "staggered": kind.staggered,
            "usual_copies": kind.usual_copies,
            "reads_memory": kind.reads_memory,
            "__annotations__": {},
        },
    )
