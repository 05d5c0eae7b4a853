"""The invented island ferry line: its routes, vessels, fares, seasons and closed days."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Days, civil, ordinal, weekday

OPENS = dt.date(2022, 4, 1)
LATEST = dt.date(2025, 8, 20)
CLOSED = ("12-25", "01-01")
STORMS = ("2023-01-14", "2023-01-15", "2024-02-03", "2024-11-23", "2025-01-09", "2025-01-10")


class Route(NamedTuple):
    """A crossing: its name, share of the trade, fare for one, and the days it ran."""

    name: str
    share: float
    fare: float
    first: str = "2022-04-01"
    last: str = "2025-08-20"


ROUTES = (
    Route("Norrow-Fenholm", 0.34, 14.50),
    Route("Norrow-Skarrey", 0.27, 22.00),
    Route("Fenholm-Ulvane", 0.17, 9.80),
    Route("Quillay Circle", 0.14, 31.25, first="2023-06-12"),
    Route("Ulvane-Brannet", 0.08, 12.40, last="2024-10-27"),
)
CLASSES = (
    ("saver", 0.24, 0.70),
    ("standard", 0.46, 1.0),
    ("lounge", 0.12, 1.65),
    ("car", 0.18, 2.9),
)
VESSELS = ("Grey Wether", "Little Merrow", "Sandlark")
ITEMS = (
    ("hot drinks", 0.38, 3.20),
    ("cold drinks", 0.22, 2.75),
    ("bakery", 0.24, 4.10),
    ("meals", 0.16, 11.90),
)
SHIPPERS = ("Osk & Tarn", "Lumme Timber", "Peddar Dairy", "Varra Salt", "Hale Wind Parts")


def day_weights(days: Days, *, weekend: float, season: float) -> NDArray[np.float64]:
    """Return how busy each day is: a summer peak, weekends, slow growth, closed days at 0."""
    _, month, day = civil(days)
    of_year = (month - 1) * 30.4 + day
    summer = 1.0 + season * np.exp(-(((of_year - 212) / 48.0) ** 2))
    growth = 1.0 + 0.06 * (days - days[0]) / 365.0
    weights = summer * growth * np.where(weekday(days) >= 5, weekend, 1.0)
    closed = np.isin(days, [ordinal(storm) for storm in STORMS])
    for text in CLOSED:
        closed |= (month == int(text[:2])) & (day == int(text[3:]))
    return np.where(closed, 0.0, weights)


def trading_days() -> NDArray[np.int64]:
    """Return the day ordinals from the first day of trade to the latest."""
    return np.arange(ordinal(OPENS), ordinal(LATEST) + 1)
