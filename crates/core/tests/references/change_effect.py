"""What came of a change by a regression in a reference library: Poisson regressions with a log link, difference in
differences, dispersion by Pearson's X2 (statsmodels). Writes change_effect.json, which `change_effect_reference.rs` reads.

    pip install numpy==2.4.6 statsmodels==0.15.0 && python change_effect.py
"""

import json
import pathlib

import numpy as np
import statsmodels.api as sm

BEFORE, SPENT, AFTER = 56, 14, 7
DAYS = BEFORE + AFTER
ORDER = 30.0
DISPERSION = 2.0


def drawn(rng, size, times, changed):
    """A campaign's days: `times` is what all share from the change on, `changed` what the change itself does."""
    after = np.arange(DAYS) >= BEFORE
    spend = size * np.exp(rng.normal(0, 0.08, DAYS)) * np.where(after, times[0] * changed[0], 1)
    mean = 1.2 * spend / ORDER * np.where(after, times[1] * changed[1], 1)
    worth = ORDER * rng.poisson(rng.gamma(mean / (DISPERSION - 1), DISPERSION - 1))
    return spend.round(2), worth.astype(float)


def interaction(rows, offset):
    """The log ratio of ratios with its standard error: what the campaign did after the change, beside the others."""
    y, campaign, after = (np.concatenate(x) for x in zip(*rows))
    levels = [campaign == n for n in np.unique(campaign)]
    x = np.column_stack([*levels, after, after * (campaign == 0)]).astype(float)
    fit = sm.GLM(y, x, sm.families.Poisson(), offset=offset).fit(scale="X2")
    return fit.params[-1], fit.bse[-1]


def judged(own, others):
    after = (np.arange(DAYS) >= BEFORE).astype(float)
    late = slice(BEFORE - SPENT, DAYS)
    lines = [own, *others]
    spends = [(s[late], np.full(SPENT + AFTER, n), after[late]) for n, (s, _) in enumerate(lines)]
    worths = [(v, np.full(DAYS, n), after) for n, (_, v) in enumerate(lines)]
    spend_by, spend_error = interaction(spends, None)
    worth_by, worth_error = interaction(worths, np.log(np.concatenate([s for s, _ in lines])))
    spend, worth = own[0][BEFORE:].sum(), own[1][BEFORE:].sum()
    # What it would have spent and brought.
    would_spend = spend / np.exp(spend_by)
    each = worth / spend / np.exp(worth_by)
    return {
        "spend": own[0].tolist(),
        "worth": own[1].tolist(),
        "others": [{"spend": s.tolist(), "worth": v.tolist()} for s, v in others],
        "effect": (worth - spend) - would_spend * (each - 1),
        "error": float(np.hypot(would_spend * each * worth_error, would_spend * (each - 1) * spend_error)),
    }


def main():
    rng = np.random.default_rng(16)
    cases = []
    for times in [(1.0, 1.0), (0.8, 1.25), (1.2, 0.8)]:
        for changed in [(1.0, 1.0), (0.7, 1.2), (1.3, 0.8)]:
            others = [drawn(rng, size, times, (1.0, 1.0)) for size in (2000, 3000, 5000, 8000)]
            cases.append(judged(drawn(rng, 600, times, changed), others))
    text = json.dumps({"before": BEFORE, "cases": cases})
    pathlib.Path(__file__).with_suffix(".json").write_text(text + "\n")


main()
