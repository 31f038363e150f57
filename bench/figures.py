#!/usr/bin/env python3
"""Holds Textum's figures against scikit-learn, scipy and pandas on public tables that ship inside scikit-learn.

    bench/figures.py PATH/TO/textum

Every figure is compared to 1e-9 (those of drawn samples by their definition). Exits with 1 if one differs.
"""

import json
import os
import subprocess
import sys
import tempfile

import numpy as np
import pandas as pd
from scipy import stats
from sklearn import datasets, linear_model, metrics, model_selection, naive_bayes

TEXTUM = os.path.abspath(sys.argv[1])
failed, compared = [], 0


def near(what, found, expected, within=1e-9):
    global compared
    compared += 1
    found = float("nan") if found in (None, "NaN", "") else float(found)
    same = (np.isnan(found) and np.isnan(expected)) or abs(found - expected) <= within * max(1.0, abs(expected))
    if not same:
        failed.append(f"{what}: {found!r}, and {expected!r} by the other")


def textum(folder, *words):
    ran = subprocess.run([TEXTUM, *words], cwd=folder, capture_output=True, text=True)
    if ran.returncode not in (0, 1):
        sys.exit(f"textum {' '.join(words)}: {ran.stderr}")
    return ran.stdout


def evaluated(table, how):
    """The metrics of an evaluation of this table, and the folder that it wrote."""
    folder = tempfile.mkdtemp(prefix="textum-figures-")
    table.to_csv(os.path.join(folder, "p.csv"), index=False)
    with open(os.path.join(folder, "textum.toml"), "w") as out:
        out.write('[project]\nname = "figures"\n[stage.judge]\n')
        out.write(f'evaluate = {{ predictions = "p.csv", truth = "t", {how} }}\nmetrics = ["m.json"]\nwrites = ["f/"]\n')
    textum(folder, "run")
    with open(os.path.join(folder, "m.json")) as read:
        return json.load(read), folder


def split(data):
    return model_selection.train_test_split(data.data, data.target, test_size=0.4, random_state=7)


def two_classes():
    x, x_test, y, y_test = split(datasets.load_breast_cancer())
    # A weak model, so that there is something to tell.
    p = linear_model.LogisticRegression(max_iter=50).fit(x[:, :3], y).predict_proba(x_test[:, :3])[:, 1]
    weight = np.round(np.random.default_rng(1).uniform(0.1, 3, len(p)), 3)
    for name, w in [("", None), (" weighted", weight)]:
        table = pd.DataFrame({"t": y_test, "s": p, "w": weight})
        how = 'score = "s", cost = { false_positive = 1, false_negative = 7 }' + (', weight = "w"' if w is not None else "")
        found, folder = evaluated(table, how)
        chosen = (p >= 0.5).astype(int)
        of = lambda f, *args, **kw: f(y_test, *args, sample_weight=w, **kw)
        expected = {
            "auc": of(metrics.roc_auc_score, p),
            "average_precision": of(metrics.average_precision_score, p),
            "log_loss": of(metrics.log_loss, p),
            "brier": of(metrics.brier_score_loss, p),
            "accuracy": of(metrics.accuracy_score, chosen),
            "precision": of(metrics.precision_score, chosen),
            "recall": of(metrics.recall_score, chosen),
            "specificity": of(metrics.recall_score, chosen, pos_label=0),
            "f1": of(metrics.f1_score, chosen),
            "mcc": of(metrics.matthews_corrcoef, chosen),
        }
        for metric, value in expected.items():
            near(f"breast cancer{name}: {metric}", found[metric], value)
        ones = np.ones(len(p)) if w is None else w
        cost = lambda at: np.sum(ones * ((p >= at) & (y_test == 0)) + 7 * ones * ((p < at) & (y_test == 1))) / ones.sum()
        near(f"breast cancer{name}: lowest cost", found["lowest_cost"], min(cost(at) for at in np.append(p, 2)))
        near(f"breast cancer{name}: its threshold", cost(found["cheapest_threshold"]), found["lowest_cost"])
        rows = pd.read_csv(os.path.join(folder, "f", "thresholds.csv"))
        for at, fp in zip(rows.threshold, rows.false_positives):
            near(f"breast cancer{name}: false positives at {at}", fp, np.sum(ones[(p >= at) & (y_test == 0)]))
        near(f"breast cancer{name}: cost at 0.3", rows.cost[30], cost(0.3))


def several_classes():
    for name, data, model in [
        ("iris", datasets.load_iris(), linear_model.LogisticRegression(max_iter=20)),
        ("wine", datasets.load_wine(), naive_bayes.GaussianNB()),
        ("digits", datasets.load_digits(), naive_bayes.BernoulliNB()),
    ]:
        x, x_test, y, y_test = split(data)
        p = model.fit(x[:, :6], y).predict_proba(x_test[:, :6])
        classes = p.shape[1]
        table = pd.DataFrame({"t": [f"c{c}" for c in y_test], **{f"p_c{c}": p[:, c] for c in range(classes)}})
        found, _ = evaluated(table, 'scores = "p_"')
        # What a file keeps of them.
        p = p / p.sum(axis=1, keepdims=True)
        one_hot = np.eye(classes)[y_test]
        expected = {
            "auc": metrics.roc_auc_score(y_test, p, multi_class="ovr"),
            "pairwise_auc": metrics.roc_auc_score(y_test, p, multi_class="ovo"),
            "log_loss": -np.mean(np.log(np.maximum(p[np.arange(len(p)), y_test], 2.0**-52))),
            "average_precision": metrics.average_precision_score(one_hot, p),
            "accuracy": metrics.accuracy_score(y_test, p.argmax(1)),
            "balanced_accuracy": metrics.balanced_accuracy_score(y_test, p.argmax(1)),
            "f1": metrics.f1_score(y_test, p.argmax(1), average="macro"),
            "brier": np.mean(np.sum((p - one_hot) ** 2, axis=1)),
        }
        for metric, value in expected.items():
            near(f"{name}: {metric}", found[metric], value)
        for c in range(classes):
            near(f"{name}: auc of class {c}", found["class"][f"c{c}"]["auc"], metrics.roc_auc_score(y_test == c, p[:, c]))
        label = pd.DataFrame({"t": table.t, "l": [f"c{c}" for c in p.argmax(1)]})
        near(f"{name}: f1 of labels", evaluated(label, 'label = "l"')[0]["f1"], expected["f1"])


def quantities():
    x, x_test, y, y_test = split(datasets.load_diabetes())
    p = linear_model.LinearRegression().fit(x, y).predict(x_test)
    low, high = p - 60, p + 80
    table = pd.DataFrame({"t": y_test, "v": p, "low": low, "high": high})
    found, _ = evaluated(table, 'value = "v", quantile = 0.8, interval = ["low", "high"], intervals = { level = 0.9, resamples = 2000 }')
    expected = {
        "rmse": metrics.root_mean_squared_error(y_test, p),
        "mae": metrics.mean_absolute_error(y_test, p),
        "r2": metrics.r2_score(y_test, p),
        "max_error": metrics.max_error(y_test, p),
        "median_error": metrics.median_absolute_error(y_test, p),
        "mape": metrics.mean_absolute_percentage_error(y_test, p),
        "quantile_loss": metrics.mean_pinball_loss(y_test, p, alpha=0.8),
        "coverage": np.mean((low <= y_test) & (y_test <= high)),
        "mean_width": 140.0,
    }
    for metric, value in expected.items():
        near(f"diabetes: {metric}", found[metric], value)
    # Drawn samples differ: the interval is near that of another bootstrap.
    errors = np.abs(p - y_test)
    other = stats.bootstrap((errors,), np.mean, n_resamples=5000, confidence_level=0.9, method="percentile", rng=3)
    for end, name in [(other.confidence_interval.low, "low"), (other.confidence_interval.high, "high")]:
        near(f"diabetes: {name} end of mae", found["interval"]["mae"][name], end, within=0.015)


def rankings():
    x, x_test, y, y_test = split(datasets.load_diabetes())
    p = np.round(linear_model.LinearRegression().fit(x[:, :2], y).predict(x_test[:, :2]) / 10)
    relevance = np.clip((y_test - 100) // 50, 0, 4)
    query = np.arange(len(p)) % 9
    found, _ = evaluated(pd.DataFrame({"t": relevance, "s": p, "q": query}), 'rank = "s", query = "q", at = 5')
    each = [(metrics.ndcg_score([relevance[query == q]], [p[query == q]], k=k)) for q in range(9) for k in (None, 5)]
    near("ranking: ndcg", found["ndcg"], np.mean(each[::2]))
    near("ranking: ndcg at 5", found["ndcg_at"], np.mean(each[1::2]))


def profiles():
    for name, data in [("iris", datasets.load_iris(as_frame=True)), ("wine", datasets.load_wine(as_frame=True))]:
        table = data.frame
        folder = tempfile.mkdtemp(prefix="textum-figures-")
        table.to_csv(os.path.join(folder, "t.csv"), index=False)
        half = table.sample(frac=0.5, random_state=3)
        half.to_csv(os.path.join(folder, "half.csv"), index=False)
        with open(os.path.join(folder, "textum.toml"), "w") as out:
            out.write('[project]\nname = "figures"\n')
        found = json.loads(textum(folder, "data", "profile", "t.csv", "--pairs", "--target", "target", "--target-kind", "number", "--format", "json"))
        near(f"{name}: duplicates", found["duplicates"], table.duplicated().sum())
        for column in found["columns"]:
            values, of = table[column["name"]], column["numbers"]
            for figure, value in [("mean", values.mean()), ("deviation", values.std()), ("skew", values.skew())]:
                near(f"{name} {column['name']}: {figure}", of[figure], value)
            q1, q3 = np.quantile(values, [0.25, 0.75], method="inverted_cdf")
            outliers = ((values < q1 - 1.5 * (q3 - q1)) | (values > q3 + 1.5 * (q3 - q1))).sum()
            near(f"{name} {column['name']}: outliers", of["outliers"], outliers)
        for pair in found["pairs"]:
            if pair["measure"] == "r":
                near(f"{name}: r of {pair['a']}, {pair['b']}", pair["value"], table[pair["a"]].corr(table[pair["b"]]))
        drift = json.loads(textum(folder, "data", "profile", "half.csv", "--against", "t.csv", "--format", "json"))
        for column in drift["columns"]:
            if column["drift"] and column["drift"]["ks"] is not None:
                near(f"{name} {column['name']}: KS", column["drift"]["ks"], stats.ks_2samp(half[column["name"]], table[column["name"]]).statistic)


def paired():
    folder = tempfile.mkdtemp(prefix="textum-figures-")
    x, x_test, y, y_test = split(datasets.load_breast_cancer())
    models = [linear_model.LogisticRegression(max_iter=50).fit(x[:, :n], y).predict_proba(x_test[:, :n])[:, 1] for n in (2, 4)]
    with open(os.path.join(folder, "textum.toml"), "w") as out:
        out.write('[project]\nname = "figures"\n[stage.judge]\nevaluate = { predictions = "p.csv", truth = "t", score = "s" }\nmetrics = ["m.json"]\n')
    for p in models:
        pd.DataFrame({"t": y_test, "s": p}).to_csv(os.path.join(folder, "p.csv"), index=False)
        textum(folder, "run")
    found = json.loads(textum(folder, "compare", "last~1", "last", "--paired", "--format", "json"))
    right = [(p >= 0.5) == y_test for p in models]
    only = [int(np.sum(right[0] & ~right[1])), int(np.sum(right[1] & ~right[0]))]
    tests = {t["test"]: t["p"] for t in found["tests"]}
    near("McNemar", tests["McNemar, of accuracy"], stats.binomtest(min(only), sum(only)).pvalue)
    for metric in found["metrics"]:
        if metric["metric"] == "auc":
            near("difference of auc", metric["difference"], metrics.roc_auc_score(y_test, models[1]) - metrics.roc_auc_score(y_test, models[0]))
            # Two ways to the same question agree about how sure it is.
            near("bootstrap and DeLong", metric["p"], tests["DeLong, of auc"], within=0.05)


for part in (two_classes, several_classes, quantities, rankings, profiles, paired):
    part()
print(f"{compared} figures compared, {len(failed)} differ")
print("\n".join(failed))
sys.exit(1 if failed or compared < 200 else 0)
