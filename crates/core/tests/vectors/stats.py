"""Writes the vectors of stats from numpy, scipy and statsmodels: python3 stats.py

Needs numpy, scipy and statsmodels from PyPI; each file names the versions it was made with.
"""

import warnings

import numpy as np
import scipy
import statsmodels
from scipy import stats
from statsmodels.stats.proportion import confint_proportions_2indep

warnings.simplefilter("ignore")
rng = np.random.default_rng(2026)
CASES = 1000
METHODS = [
    "inverted_cdf", "averaged_inverted_cdf", "closest_observation", "interpolated_inverted_cdf", "hazen",
    "weibull", "linear", "median_unbiased", "normal_unbiased",
]


def write(name, head, rows):
    with open(name, "w") as f:
        f.write(f"# {head}; numpy {np.__version__}, scipy {scipy.__version__}, statsmodels {statsmodels.__version__}\n")
        f.writelines("\t".join(row) + "\n" for row in rows)


def listed(values):
    return ",".join(str(int(v)) for v in values)


def number(v):
    return f"{v:.12g}"


def quantiles():
    for _ in range(CASES):
        data = rng.integers(0, 1000, rng.integers(1, 14))
        percent = int(rng.integers(1, 100))
        p = percent / 100
        yield [listed(data), str(percent)] + [number(np.quantile(data.astype(float), p, method=m)) for m in METHODS]


def ranks():
    for _ in range(CASES):
        n = int(10 ** rng.uniform(0, 6.5))
        percent = int(rng.choice([5, 25, 50, 75, 90, 95, 99]))
        binom = stats.binom(n, percent / 100)
        # P(X < k) <= 2.5 % for the largest k, P(X < k) >= 97.5 % for the smallest.
        low, high = int(binom.ppf(0.025)), int(binom.ppf(0.975)) + 1
        exists = low >= 1 and high <= n
        yield [str(n), str(percent), str(low if exists else 0), str(high if exists else 0)]


def mann_whitney():
    for i in range(CASES):
        small = i % 3 == 0
        n, m = rng.integers(1, 7, 2) if small else rng.integers(9, 24, 2)
        top = 1000 if i % 2 else 12
        x, y = rng.integers(0, top, n), rng.integers(0, top, m) + int(rng.integers(0, top // 3))
        with np.errstate(all="ignore"):
            r = stats.mannwhitneyu(y, x, alternative="two-sided", method="auto")
        yield [listed(x), listed(y), number(r.statistic), number(1.0 if np.isnan(r.pvalue) else r.pvalue)]


def shares():
    for _ in range(CASES):
        n, m = (int(10 ** rng.uniform(0, 5.5)) for _ in range(2))
        k, j = int(rng.binomial(n, rng.choice([0.5, 0.1, 0.01, 0.999]))), int(rng.binomial(m, rng.uniform(0, 1)))
        test = stats.binomtest(k, n)
        wilson, exact = test.proportion_ci(method="wilson"), test.proportion_ci(method="exact")
        # statsmodels takes the difference first minus second: after minus before.
        low, high = confint_proportions_2indep(j, m, k, n, method="newcomb", compare="diff")
        yield [str(v) for v in (k, n, j, m)] + [number(v) for v in (*wilson, *exact, low, high)]


write("quantiles.tsv", "data, percent, Hyndman-Fan types 1 to 9", quantiles())
write("ranks.tsv", "n, percent, ranks of the 95 % interval (0: none)", ranks())
write("mann_whitney.tsv", "before, after, U of after, two-sided p", mann_whitney())
write("shares.tsv", "k, n, k after, n after, Wilson of k/n, Clopper-Pearson of k/n, Newcombe of the difference", shares())
