// Thresholds: what one class gains and loses as its threshold moves, and how far probabilities can be believed.
import { ask } from "../data";
import { Page, View, bestRun, colourOf, mark, rowOf } from "../page";
import { amend, change, Params } from "../address";
import { Chart, Point } from "../chart";
import { h, replace, failure, loading, choice, debounced, labelled, onFrame, nothing } from "../dom";
import { decimal, percent, plural, count } from "../format";

interface Thresholds {
  run: string; class: string; temperature: number; positives: number; negatives: number; roc_auc: number | null; average_precision: number | null;
  points: [number, number, number][]; coverage: [number, number, number][];
}
interface Bin { low: number; high: number; items: number; confidence: number; accuracy: number }

export function thresholdsView(main: HTMLElement, page: Page): View {
  const heading = h("header", { class: "run-head" });
  const slider = h("input", { type: "range", min: 0, max: 1, step: 0.001, class: "long", "aria-label": "threshold" });
  const readout = h("div", { class: "threshold-readout", "aria-live": "polite" });
  const grid = h("div", { class: "chart-grid" });
  main.append(heading, h("div", { class: "controls" }, h("label", { class: "control long" }, "threshold", slider)), readout, grid);
  let params = new Params();
  let data: Thresholds | null = null;
  let bins: Bin[] = [];
  let charts: Chart[] = [];
  let shown = "";

  const run = () => params.text("run") || bestRun({ ...page.study, runs: page.study.runs.filter((row) => row.state === "finished") })?.run || "";
  const one = () => params.text("class") || page.study.classes[0]!;
  const threshold = () => Math.min(1, Math.max(0, params.number("at", 0.5)));

  const pointAt = (): { truePositives: number; falsePositives: number } => {
    let found = { truePositives: 0, falsePositives: 0 };
    for (const [at, truePositives, falsePositives] of data!.points) {
      if (at < threshold()) break;
      found = { truePositives, falsePositives };
    }
    return found;
  };

  const update = () => {
    if (!data) return;
    const { truePositives, falsePositives } = pointAt();
    const called = truePositives + falsePositives;
    const precision = called ? truePositives / called : null;
    const recall = data.positives ? truePositives / data.positives : null;
    const falseRate = data.negatives ? falsePositives / data.negatives : 0;
    const answered = [...data.coverage].reverse().find(([at]) => at >= threshold()) ?? null;
    const total = data.coverage[data.coverage.length - 1]?.[1] ?? 0;
    slider.value = String(threshold());
    const cell = (value: number, what: string, right: boolean) => h("td", { class: `number ${right ? "is-right" : "is-wrong"}`, title: what }, count(value));
    replace(readout,
      h("dl", { class: "figures" }, ...([["threshold", decimal(threshold())], ["precision", decimal(precision)], ["recall", decimal(recall)],
        ["F1", precision !== null && recall !== null && precision + recall > 0 ? decimal((2 * precision * recall) / (precision + recall)) : "–"],
        ["coverage, with this threshold on the top probability", answered ? `${percent(answered[1] / total)}, ${decimal(answered[2] / answered[1])} accuracy` : "none"]] as const)
        .map(([name, value]) => h("div", {}, h("dt", {}, name), h("dd", { class: "number" }, value)))),
      h("table", { class: "small-table" }, h("caption", { class: "unseen" }, "confusion of the class at this threshold"),
        h("thead", {}, h("tr", {}, h("th", {}), h("th", { scope: "col" }, `predicted ${one()}`), h("th", { scope: "col" }, "not"))),
        h("tbody", {}, h("tr", {}, h("th", { scope: "row" }, one()), cell(truePositives, "true positives", true), cell(data.positives - truePositives, "false negatives", false)),
          h("tr", {}, h("th", { scope: "row" }, "other"), cell(falsePositives, "false positives", false), cell(data.negatives - falsePositives, "true negatives", true)))));
    const colour = colourOf(page.study, rowOf(page.study, run())?.candidate ?? "");
    const byThreshold = (value: (tp: number, fp: number) => number): Point[] =>
      data!.points.map(([at, tp, fp]) => [at, value(tp, fp)] as Point).reverse();
    const whole: [number, number] = [0, 1];
    const here = (x: number, y: number | null): Point[] => (y === null ? [] : [[x, y]]);
    const [curves, roc, trade, coverage, reliability] = charts;
    curves!.set([
      { id: "precision", name: "precision", colour: "var(--right)", points: byThreshold((tp, fp) => (tp + fp ? tp / (tp + fp) : NaN)) },
      { id: "recall", name: "recall", colour: "var(--wrong)", points: byThreshold((tp) => (data!.positives ? tp / data!.positives : NaN)) },
    ], { pin: threshold(), xDomain: whole, yDomain: whole });
    roc!.set([{ id: "roc", name: "ROC", colour, points: [[0, 0], ...data.points.map(([, tp, fp]) => [data!.negatives ? fp / data!.negatives : 0, data!.positives ? tp / data!.positives : 0] as Point), [1, 1]] },
              { id: "chance", name: "chance", colour: "var(--quiet)", faint: true, points: [[0, 0], [1, 1]] },
              { id: "here", name: "here", colour: "var(--ink)", dots: true, points: here(falseRate, recall) }], { xDomain: whole, yDomain: whole });
    trade!.set([{ id: "pr", name: "precision and recall", colour, points: data.points.map(([, tp, fp]) => [data!.positives ? tp / data!.positives : 0, tp + fp ? tp / (tp + fp) : NaN] as Point) },
                { id: "here", name: "here", colour: "var(--ink)", dots: true, points: precision === null || recall === null ? [] : here(recall, precision) }], { xDomain: whole, yDomain: whole });
    coverage!.set([{ id: "coverage", name: "accuracy by coverage", colour, points: data.coverage.map(([, n, right]) => [n / total, right / n] as Point) },
                   { id: "here", name: "here", colour: "var(--ink)", dots: true, points: answered ? here(answered[1] / total, answered[2] / answered[1]) : [] }], { xDomain: whole, yDomain: null });
    reliability!.set([{ id: "even", name: "calibrated", colour: "var(--quiet)", faint: true, points: [[0, 0], [1, 1]] },
                      { id: "bins", name: "accuracy by confidence", colour, dots: true, points: bins.filter((bin) => bin.items).map((bin) => [bin.confidence, bin.accuracy] as Point) }], { xDomain: whole, yDomain: whole });
  };

  const tellAddress = debounced(() => amend({ at: params.text("at") }), 150);
  const at = onFrame((value: number) => {
    params = params.with({ at: value.toFixed(3) });
    tellAddress();
    update();
  });
  slider.addEventListener("input", () => at(Number(slider.value)));

  const make = () => {
    const chart = (title: string, xLabel: string, yLabel: string, more = {}) => new Chart({ title: `${one()}: ${title}`, xLabel, yLabel, height: 215, ...more });
    charts = [
      chart("precision and recall by threshold", "threshold", "precision (blue), recall (orange)", { onPin: (x: number | null) => x !== null && change({ at: x.toFixed(3) }) }),
      chart("ROC curve", "false positive rate", "recall"),
      chart("precision-recall curve", "recall", "precision"),
      chart("accuracy by coverage", "coverage", "accuracy"),
      chart("reliability of the run", "confidence", "accuracy"),
    ];
    replace(grid, ...charts.map((one) => one.element));
  };

  const draw = async () => {
    const question = `${run()}\n${one()}`;
    shown = question;
    const names: [string, string][] = page.study.runs.filter((row) => row.state === "finished").map((row) => [row.run, row.run]);
    if (!run()) return replace(heading, h("h1", {}, "Thresholds"), nothing("Thresholds can be looked at when a run is finished."));
    const row = rowOf(page.study, run());
    const pickers = h("div", { class: "controls" }, row ? mark(page.study, row.candidate) : null, choice(names, run(), (value) => change({ run: value })),
                      labelled("class", choice(page.study.classes.map((name) => [name, name]), one(), (value) => change({ class: value }))));
    if (!data) replace(heading, pickers, loading("the probabilities"));
    try {
      const [answer, scores] = await Promise.all([ask<Thresholds>("thresholds", { run: run(), class: one() }), ask<{ reliability: Bin[] }>("scores", { run: run() })]);
      if (question !== shown) return;
      data = answer;
      bins = scores.reliability ?? [];
      replace(heading, pickers, h("h1", {}, `${one()} against all others: ROC AUC ${decimal(data.roc_auc)}, average precision ${decimal(data.average_precision)}`),
              h("p", { class: "quiet" }, `${plural(data.positives, "item")} of the class and ${count(data.negatives)} others, on the validation part; probabilities as the exported model gives them (temperature ${decimal(data.temperature, 2)})`));
      for (const chart of charts) chart.close();
      make();
      update();
    } catch (error) {
      if (question === shown) replace(heading, pickers, h("h1", {}, "Thresholds"), failure(error));
    }
  };

  return {
    show(to) {
      params = to;
      if (data && shown === `${run()}\n${one()}`) return update();
      return draw();
    },
    news(news) {
      if (!news || !data) void draw();
    },
    close() {
      for (const chart of charts) chart.close();
    },
  };
}
