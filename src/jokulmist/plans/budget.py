"""Whether a budget is enough to learn anything in, and whether a plan can keep to it."""

from __future__ import annotations

from jokulmist.agents.players import each_agent, method_names
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError
from jokulmist.learning.replay import bytes_of
from jokulmist.plans.plan import Plan

MOST_OVER = 1.5
LARGEST_BATCH = 2**31 - 1
# Above this share of its steps a run is said to be longer than asked for.
OVERSHOOT = 1.02


def refuse_endless(plan: Plan) -> None:
    """Raise `SettingError` where no episode can ever close: nothing would be recorded, and an evaluation would not come
    back."""
    description = describe(plan.stage)
    if not description.closings:
        raise SettingError(
            f"`{description.name}` declares no ending, cut, `deadline` or `time_limit`, so no episode would ever "
            "close, and none be recorded. Add "
            f"`time_limit = 1000` to the class: a cut, which changes nothing of what is learned."
        )


def refuse_budget(plan: Plan) -> None:
    """Raise `SettingError` where the first update alone takes far more decisions than the plan has."""
    steps, copies = plan.training.steps, plan.copies
    each = plan.agent.decisions_per_update(copies)
    batch = copies * each
    name = method_names(plan.agent)
    if batch > LARGEST_BATCH:
        raise SettingError(
            f"`{name}` would gather {batch:,} decisions before it learns, {each:,} of each of {copies:,} copies; at "
            f"most {LARGEST_BATCH:,} are allowed. Use fewer `copies` or a smaller `horizon`."
        )
    if steps is None or batch <= MOST_OVER * steps:
        return
    batched = f"{copies} {'copy' if copies == 1 else 'copies'} of {each} decisions" if each > 1 else f"{copies} copies"
    shorter = f"`horizon={max(1, steps // copies)}`, or " if hasattr(plan.agent, "horizon") and steps >= copies else ""
    fewer = f"fewer copies, e.g. `copies={max(1, steps // each)}`, " if copies > 1 else ""
    fixes = f"{fewer}{shorter}at least `steps={batch:_}`"
    raise SettingError(
        f"`steps` is {steps:,}, and `{name}` gathers {batched} before it learns: {batch:,} decisions. Give {fixes}."
    )


def refuse_memory(plan: Plan) -> None:
    """Raise `SettingError` where what the method keeps of the past is too little for its copies, or more than the free
    memory of this machine."""
    import psutil

    needed, free = 0.0, psutil.virtual_memory().available
    for agent, spec, copies in each_agent(plan.agent, describe(plan.stage).spec, plan.copies):
        config = agent.config(spec, copies)
        agent.refuse_copies(config)
        setting = "longest" if hasattr(agent, "longest") else "replay_size"
        slots = int(getattr(config, "slots", 0) or getattr(agent, "longest", 0))
        needed += bytes_of(config.spec, copies, slots)
        if needed <= free:
            continue
        raise SettingError(
            f"what `{type(agent).__name__}` keeps of the past takes {needed / 1e9:,.1f} GB, and {free / 1e9:,.1f} GB "
            f"of memory are free. Lower `{setting}`, which is {getattr(agent, setting):,}."
        )


def budget_words(plan: Plan) -> list[str]:
    """What is said before a training in which little or nothing can be learned."""
    if plan.training.records is not None:
        return []
    steps = plan.training.steps
    description = describe(plan.environment)
    words = []
    for agent, _, _ in each_agent(plan.agent, describe(plan.stage).spec, plan.copies):
        start = getattr(agent, "replay_start", None)
        if steps is None or not isinstance(start, int) or not getattr(agent, "replay", True) or start < steps:
            continue
        words.append(
            f"nothing can be learned in {steps:,} decisions: `{type(agent).__name__}` begins to learn after "
            f"`replay_start` = {start:,}. Give more `steps`, or lower `replay_start`"
        )
    batch = plan.copies * plan.agent.decisions_per_update(plan.copies)
    if steps is not None and -(-steps // batch) * batch > OVERSHOOT * steps:
        rounded = -(-steps // batch) * batch
        words.append(
            f"{rounded:,} decisions will be trained, and not {steps:,}: `{method_names(plan.agent)}` learns from "
            f"{batch:,} at a time. For an exact number give `steps` as a multiple, or fewer `copies`"
        )
    limit = description.limit
    if steps is not None and limit is not None and steps * description.decide_every < limit:
        words.append(
            f"no episode may close in {steps:,} decisions: an episode of `{description.name}` lasts up to {limit:,} "
            "advances, and what is recorded are episodes that closed"
        )
    return words
