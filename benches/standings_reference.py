"""Standings of a record by numpy and pandas: what they are measured beside.

Reads the raw tables and computes rates, Wilson intervals with effective sizes, and for every pair the sign-flip
test by one FFT, Holm, and ranges of ranks.
"""

import sqlite3
import sys

import numpy as np
import pandas as pd

database = sqlite3.connect(sys.argv[1])
trials = pd.read_sql("SELECT candidate, task, sample, verdict FROM trials", database)
attempts = pd.read_sql("SELECT candidate, task, sample, attempt FROM attempts", database)
requests = pd.read_sql(
    "SELECT candidate, task, sample, seconds, cost, tokens_input, tokens_output FROM requests", database
)
key = ["candidate", "task", "sample"]
trials = trials.merge(attempts.groupby(key).size().rename("attempts").reset_index(), how="left", on=key)
trials = trials.merge(requests.groupby(key).sum().reset_index(), how="left", on=key)
counted = trials[trials.verdict != "void"].assign(passed=lambda it: it.verdict == "pass")
cells = counted.groupby(["candidate", "task"]).agg(passed=("passed", "sum"), trials=("passed", "size"))
passed = cells.passed.unstack().to_numpy(dtype=float)
number = cells.trials.unstack().to_numpy(dtype=float)
rate = np.nansum(passed, 1) / np.nansum(number, 1)
print(rate, counted.groupby("candidate").cost.sum())


def wilson(share, n, z=1.959964):
    centre = (share + z * z / (2 * n)) / (1 + z * z / n)
    half = z / (1 + z * z / n) * np.sqrt(share * (1 - share) / n + z * z / (4 * n * n))
    return centre - half, centre + half


tasks = passed.shape[1]
residual = np.nansum((passed - rate[:, None] * number) ** 2, 1)
variance = tasks / (tasks - 1) * residual / np.nansum(number, 1) ** 2
print(wilson(rate, np.clip(rate * (1 - rate) / variance, tasks, np.nansum(number, 1))))

GRID = 2520
rates = passed / number
p = []
for a in range(len(rates)):
    for b in range(a + 1, len(rates)):
        steps = np.rint((rates[a] - rates[b]) * GRID)
        steps = steps[~np.isnan(steps)].astype(int)
        sizes, counts = np.unique(np.abs(steps[steps != 0]), return_counts=True)
        if not len(sizes):
            p.append(1.0)
            continue
        part = np.gcd.reduce(sizes)
        sizes = sizes // part
        reach, observed = int((sizes * counts).sum()), abs(int(steps.sum())) // part
        size = 1 << (2 * reach + 1).bit_length()
        angles = 2 * np.pi * np.arange(size) / size
        transform = np.ones(size)
        for step, count in zip(sizes, counts):
            transform *= np.cos(angles * step) ** count
        chances = np.fft.ifft(transform).real
        tail = chances[observed : reach + 1].sum() - 0.5 * chances[observed]
        p.append(min(1.0, 2 * tail))
order = np.argsort(p)
adjusted = np.maximum.accumulate(np.sort(p) * (len(p) - np.arange(len(p))))
print(order, adjusted)
