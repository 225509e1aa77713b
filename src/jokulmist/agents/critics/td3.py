"""Twin delayed deep deterministic policy gradient."""

from __future__ import annotations

from typing import ClassVar

from jokulmist.agents.contract import AboveZero, Count
from jokulmist.agents.critics.ddpg import DeterministicAgent


class TD3(DeterministicAgent):
    """Twin delayed deep deterministic policy gradient: two critics, a smoothed target, a policy that moves less often.

    the critics learn  r + discount min_i Q_i'(s', clip(pi'(s') + clip(noise, -c, c), -1, 1)),  the policy climbs
    Q_1(s, pi(s))

    Fujimoto, van Hoof and Meger (2018), "Addressing function approximation error in actor-critic methods", algorithm 1.

    Parameters
    ----------
    policy_every : int
        Updates of the critics between two of the policy and of the target networks.
    target_noise : float
        Spread of the noise on the target's action, where the bounds stand at -1 and 1.
    target_noise_clip : float
        Largest such noise.
    exploration, noise, noise_return
        See `DeterministicAgent`.
    learning_rate, policy_rate, discount, replay_size, replay_start, minibatch, learn_every, target_share, n_step
        See `CriticAgent`.
    network, scaling, rewards_scaled, optimiser, gradient_clip
        See `CriticAgent`.

    Notes
    -----
    Differs from the paper: networks are smaller, and the target's noise is smaller, because a policy that is to be
    exact needs critics that are sharp. Fails where what is best lies between two very different actions: the policy can
    only improve by small steps from where it is.

    Examples
    --------
    >>> TD3(policy_every=1)
    TD3(policy_every=1)
    """

    policy_every: Count = 2
    target_noise: AboveZero = 0.1
    target_noise_clip: AboveZero = 0.25

    normal_draws: ClassVar[int] = 1
