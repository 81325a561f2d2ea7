"""River levels for 24 gauges, made from a seed.

Each gauge's level follows the rain of the whole catchment: rain fills a slow and a quick store,
which empty in proportion to what they hold (linear reservoirs), and the gauge stands above its base
level by what runs off. The last days bring a storm, so that some gauges are in flood at the end.
"""

from __future__ import annotations

from pathlib import Path

import duckdb
import numpy as np
import numpy.typing as npt
import pandas as pd
from msgspec import Struct

SEED = 1853
GAUGES = 24
FIRST = "2025-01-01"
LAST = "2026-11-22 18:00"
EVERY = "30min"

_RIVERS = ("Brack", "Upper Brack", "Little Ouzel", "Marl", "Tarn Water")
_PLACES = (
    *("Aldermill", "Apperley", "Barrowford", "Bramwith", "Calderholt", "Cresswater"),
    *("Dunsby", "Eastwick", "Farrow", "Garth", "Hollins", "Inglesham"),
    *("Kirkbeck", "Langthorn", "Marlpit", "Netherby", "Orrin", "Pelham"),
    *("Quarrow", "Ravensby", "Skelding", "Thornlea", "Upwell", "Wathgill"),
)


class Catchment(Struct, frozen=True):
    """Everything that arrives from outside.

    Attributes:
        gauges: one row per gauge.
        readings: one row per gauge and half hour, levels in cm above the gauge's zero.
    """

    gauges: pd.DataFrame
    readings: pd.DataFrame


def generate(seed: int = SEED) -> Catchment:
    """The catchment's data; the same seed gives the same numbers everywhere."""
    random = np.random.default_rng(seed)
    times = pd.date_range(FIRST, LAST, freq=EVERY)
    bankfull = np.round(random.uniform(180, 420, GAUGES))
    gauges = pd.DataFrame(
        {
            "gauge_id": np.arange(1, GAUGES + 1, dtype=np.int32),
            "name": _PLACES,
            "river": [_RIVERS[i] for i in random.integers(0, len(_RIVERS), GAUGES)],
            "easting_m": random.integers(310_000, 360_000, GAUGES).astype(np.int32),
            "northing_m": random.integers(480_000, 520_000, GAUGES).astype(np.int32),
            "bankfull_cm": bankfull,
        }
    )
    levels = _levels(random, _rain(random, times), bankfull)
    quality = np.where(random.random(levels.shape) < 0.985, "good", "suspect")
    spikes = random.random(levels.shape) < 0.0002
    levels = np.where(spikes, 1_900.0, levels)
    readings = pd.DataFrame(
        {
            "gauge_id": np.repeat(gauges["gauge_id"].to_numpy(), len(times)),
            "taken_at": np.tile(times.to_numpy(), GAUGES),
            "level_cm": np.round(levels.T.ravel(), 1),
            "quality": quality.T.ravel(),
        }
    )
    return Catchment(gauges, readings)


def _rain(random: np.random.Generator, times: pd.DatetimeIndex) -> npt.NDArray[np.float64]:
    """Rain in mm per half hour: showers that come more often in winter, and a storm at the end."""
    winter = 0.5 + 0.5 * np.cos(2 * np.pi * (times.day_of_year.to_numpy() - 15) / 365.25)
    starts = random.random(len(times)) < 0.004 + 0.008 * winter
    rain = np.zeros(len(times))
    for start in np.flatnonzero(starts):
        length = int(random.integers(4, 24))
        rain[start : start + length] += random.gamma(1.5, 0.6)
    rain[-60:-6] += 1.5
    return rain


def _levels(
    random: np.random.Generator,
    rain: npt.NDArray[np.float64],
    bankfull: npt.NDArray[np.float64],
) -> npt.NDArray[np.float64]:
    """Levels by time and gauge, in cm."""
    base = bankfull * random.uniform(0.15, 0.3, GAUGES)
    response = bankfull * random.uniform(0.010, 0.018, GAUGES)
    quick, slow = np.zeros(GAUGES), np.zeros(GAUGES)
    keep_quick = random.uniform(0.93, 0.965, GAUGES)
    keep_slow = random.uniform(0.996, 0.998, GAUGES)
    levels = np.empty((len(rain), GAUGES))
    for i, fallen in enumerate(rain):
        quick = quick * keep_quick + 0.7 * fallen
        slow = slow * keep_slow + 0.05 * fallen
        levels[i] = base + response * 2.2 * (quick + slow)
    noise: npt.NDArray[np.float64] = random.normal(0, 0.6, levels.shape)
    return levels + noise


def write_database(path: Path, catchment: Catchment) -> None:
    """A database as the environment's owners set it up: only what arrives from outside."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with duckdb.connect(str(path)) as connection:
        gauges, readings = catchment.gauges, catchment.readings
        connection.register("gauges", gauges)
        connection.register("readings", readings)
        connection.execute("CREATE SCHEMA raw")
        connection.execute("CREATE TABLE raw.gauge AS SELECT * FROM gauges")
        connection.execute(
            "CREATE TABLE raw.reading AS "
            "SELECT gauge_id, taken_at::TIMESTAMP AS taken_at, level_cm, quality FROM readings"
        )
