"""When a run first reached a level."""

import numpy as np


def first_reached(run, level, window=100):
    """Decisions and seconds until the mean of so many episodes first reaches a level; None where it never does."""
    episodes, readings = run.episodes, run.readings
    mean = episodes["return"].rolling(window).mean()
    reached = np.flatnonzero(mean >= level)
    if not len(reached):
        return None, None
    decisions = int(episodes["decisions"].iloc[reached[0]])
    return decisions, float(np.interp(decisions, readings["decisions"], readings["seconds"]))
