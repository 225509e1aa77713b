"""Makes `season.csv`: a made-up week of hourly electricity prices and meltwater for the tarn.

``python -m jokulmist.gallery.make_season`` writes the same file again. Prices have a morning and an evening peak, melt
follows the sun with a delay of some hours, and both wander from day to day.
"""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np

HOURS = 168
TARGET = Path(__file__).with_name("season.csv")


def season(seed: int = 7) -> list[tuple[int, float, float]]:
    """Rows of (hour, price in crowns per 1000 m3, mean melt in 1000 m3 per hour)."""
    chance = np.random.default_rng(seed)
    hours = np.arange(HOURS)
    of_day = hours % 24
    day_price = np.repeat(1.0 + 0.15 * chance.standard_normal(HOURS // 24), 24)
    peaks = np.exp(-((of_day - 8) ** 2) / 6.0) + 1.3 * np.exp(-((of_day - 18) ** 2) / 8.0)
    price = day_price * (0.35 + 0.75 * peaks) + 0.03 * chance.standard_normal(HOURS)
    day_melt = np.repeat(1.0 + 0.2 * chance.standard_normal(HOURS // 24), 24)
    sun = np.clip(np.sin(2.0 * np.pi * (of_day - 9) / 24.0), 0.0, None)
    melt = day_melt * (0.4 + 2.2 * sun)
    rows = zip(hours.tolist(), np.clip(price, 0.1, None).tolist(), np.clip(melt, 0.1, None).tolist(), strict=True)
    return [(hour, round(p, 3), round(m, 3)) for hour, p, m in rows]


def main() -> None:
    with TARGET.open("w", newline="", encoding="utf-8") as stream:
        writer = csv.writer(stream, lineterminator="\n")
        writer.writerow(["hour", "price", "melt"])
        writer.writerows(season())


if __name__ == "__main__":
    main()
