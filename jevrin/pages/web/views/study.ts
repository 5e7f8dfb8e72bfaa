// The study: the recommendation first, then the candidates, what they cost, what is still training.
import { ask, RunRow, isReport, News, Warning } from "../data";
import { Page, View, candidateName, colourOf, isCompared, mark, runLink } from "../page";
import { addressOf, change, Params } from "../address";
import { Chart } from "../chart";
import { DataTable, Column } from "../table";
import { h, svg, replace, loading, failure, choice, labelled, nothing } from "../dom";
import { decimal, interval, percent, plural, seconds, short, count } from "../format";

interface Ranked {
  candidate: string; regime: string; mean: number; low: number | null; high: number | null; runs: number; seeds: number;
  failed_seeds: number; seconds: number; trainable_parameters: number; multiplications: number; model_bytes: number;
  cost: number | null; pareto_optimal: boolean; may_be_best: boolean; probability_best: number | null;
  behind_best: { mean: number; low: number | null; high: number | null; verdict: string } | null; prediction: { milliseconds: number } | null;
}
interface Choice {
  chosen: string | null; reason?: string; summary: string; reasons: string[]; ranking: Ranked[]; cost: string; clear: boolean;
  validation_items: number; validation_units: number; rare_classes: unknown[];
}

const costs: [string, string][] = [
  ["seconds", "training time"], ["trained", "trained parameters"], ["operations", "operations of a prediction"], ["file", "model file"],
  ["latency", "time of one image"], ["batch", "time in a batch"], ["memory", "memory of a prediction"],
];

function spokenCost(kind: string, value: number | null): string {
  if (value === null) return "–";
  if (kind === "seconds") return seconds(value);
  if (kind === "latency" || kind === "batch") return `${short(value)} ms`;
  return kind === "file" || kind === "memory" ? `${short(value / 1e6)} MB` : value >= 1e6 ? `${short(value / 1e6)} M` : count(value);
}

// A score with its interval, on the scale that all candidates share.
function whisker(row: Ranked, low: number, high: number, colour: string): SVGElement {
  const x = (value: number) => 4 + (112 * (value - low)) / (high - low || 1);
  return svg("svg", { width: 120, height: 16, class: "whisker", "aria-hidden": "true" },
             svg("line", { x1: 4, x2: 116, y1: 8, y2: 8, class: "scale" }),
             row.low === null || row.high === null ? null : svg("line", { x1: x(row.low), x2: x(row.high), y1: 8, y2: 8, stroke: colour, "stroke-width": 3 }),
             svg("circle", { cx: x(row.mean), cy: 8, r: 4.5, fill: colour }));
}

function verdictOf(row: Ranked, first: boolean): string {
  if (first) return "ranks first";
  if (!row.behind_best) return row.may_be_best ? "not compared" : "not the best";
  if (row.behind_best.verdict === "better") return "worse";
  if (row.behind_best.verdict === "equivalent") return "equivalent";
  return row.may_be_best ? "unknown" : "not the best";
}

export function studyView(main: HTMLElement, page: Page): View {
  const answer = h("section", { class: "answer" });
  const table = h("section", { class: "candidates" });
  const cost = h("section", { class: "cost" });
  const training = h("section", { class: "training" });
  const facts = h("section", { class: "facts" });
  main.append(answer, h("div", { class: "two" }, table, cost), h("div", { class: "two" }, training, facts));
  let chart: Chart | null = null;
  let params = new Params();
  let asked = 0;
  let took = 0;    // milliseconds, of the last answer
  let drawn = 0;   // when it was drawn
  let waiting = 0;

  const drawChoice = (result: Choice) => {
    drawn = performance.now();
    const { study } = page;
    if (!result.chosen) {
      replace(answer, h("h1", {}, study.runs.length ? "No run is finished yet" : "No run has begun yet"),
              h("p", { class: "quiet" }, study.runs.length ? "The recommendation stands here as soon as the first run is finished." : "'jevrin train PLAN' begins."));
      replace(table);
      replace(cost);
      return;
    }
    const [first, ...rest] = result.reasons;
    const after = result.summary.startsWith(first ?? "") ? result.summary.slice(first!.length).trim() : result.summary;
    replace(answer, h("h1", {}, first ?? result.summary), h("p", { class: "evidence" }, after),
            rest.length ? h("details", {}, h("summary", {}, "each comparison, and what is set apart"), h("ul", {}, ...rest.map((one) => h("li", {}, one)))) : null);

    const lows = result.ranking.map((row) => row.low ?? row.mean);
    const highs = result.ranking.map((row) => row.high ?? row.mean);
    const [low, high] = [Math.min(...lows), Math.max(...highs)];
    const columns: Column<Ranked>[] = [
      { key: "candidate", head: "candidate", value: (row) => row.candidate, cell: (row) =>
        h("a", { class: "plain", href: addressOf("curves", { runs: [row.candidate] }) }, candidateName(study, row.candidate)) },
      { key: "mean", head: study.spoken_metric, numeric: true, value: (row) => row.mean, cell: (row) => decimal(row.mean) },
      { key: "interval", head: "95 % interval", value: (row) => interval(row.low, row.high), cell: (row) =>
        h("span", { title: interval(row.low, row.high) }, whisker(row, low, high, colourOf(study, row.candidate))) },
      { key: "verdict", head: "verdict", value: (row) => verdictOf(row, row === result.ranking[0]) },
      { key: "cost", head: "cost", numeric: true, value: (row) => row.cost, cell: (row) => spokenCost(result.cost, row.cost) },
      { key: "probability_best", head: "P(best)", numeric: true, title: "in how many bootstrap draws of seeds and items it is the best",
        value: (row) => row.probability_best, cell: (row) => percent(row.probability_best) },
      { key: "seeds", head: "seeds", numeric: true, value: (row) => row.seeds,
        cell: (row) => (row.failed_seeds ? `${row.seeds}, ${row.failed_seeds} failed` : row.seeds) },
    ];
    const candidates = new DataTable<Ranked>({ columns, caption: "candidates, best first", id: (row) => row.candidate,
      rowClass: (row) => (row.candidate === result.chosen ? "chosen" : ""), filename: `${study.study}-candidates`,
      sort: params.text("sort"), onSort: (sort) => change({ sort }) });
    candidates.setRows(result.ranking);
    replace(table, h("h2", {}, "Candidates"), candidates.element,
            h("p", { class: "quiet small" }, `mean over seeds, on ${plural(result.validation_items, "validation item")}`
              + (result.validation_units < result.validation_items ? ` in ${plural(result.validation_units, "unit")}` : "")));

    const kinds = choice(costs, result.cost, (kind) => change({ cost: kind }));
    chart?.close();
    const known = result.ranking.filter((row) => row.cost !== null);
    const front = known.filter((row) => row.pareto_optimal).sort((a, b) => a.cost! - b.cost!);
    const spread = known.length ? Math.max(...known.map((row) => row.cost!)) / Math.max(1e-12, Math.min(...known.map((row) => row.cost!))) : 1;
    const logarithmic = spread > 20 && known.every((row) => row.cost! > 0);
    const x = (row: Ranked) => (logarithmic ? Math.log10(row.cost!) : row.cost!);
    chart = new Chart({ title: `${study.study}: score against cost`, height: 250, yLabel: study.spoken_metric,
      xLabel: `${costs.find(([name]) => name === result.cost)?.[1] ?? result.cost}${logarithmic ? " (logarithmic)" : ""}`,
      xFormat: (value) => (logarithmic && value !== Math.round(value) ? "" : spokenCost(result.cost, logarithmic ? 10 ** value : value)),
      onPick: (id) => change({ picked: id }) });
    chart.set([
      { id: "front", name: "front", colour: "var(--quiet)", faint: true, points: front.map((row) => [x(row), row.mean]) },
      ...known.map((row) => ({ id: row.candidate, name: `${row.candidate}: ${decimal(row.mean)}, ${spokenCost(result.cost, row.cost)}`,
        colour: colourOf(study, row.candidate), dots: true, points: [[x(row), row.mean] as [number, number]],
        best: row.candidate === result.chosen ? [x(row), row.mean] as [number, number] : null })),
    ]);
    replace(cost, h("h2", {}, "Score against cost"), labelled("cost", kinds), chart.element,
            h("p", { class: "quiet small" }, "The line joins those that no other beats at the same cost or less; the ring is the recommended one."));
  };

  const drawTraining = () => {
    const { study } = page;
    const { progress } = study;
    const now = study.runs.filter((row) => row.state === "training");
    const failed = study.runs.filter((row) => row.state === "failed");
    const open = study.runs.filter((row) => row.state === "waiting" || row.state === "interrupted");
    const bar = (row: RunRow) => h("li", {}, runLink(study, row.run), " ",
      h("progress", { value: row.epochs, max: Math.max(1, row.planned_epochs), "aria-label": `${row.run}, epochs` }),
      h("span", { class: "quiet number" }, ` epoch ${row.epochs} of ${row.planned_epochs}`));
    const finished = study.runs.filter((row) => row.state === "finished").length;
    const unverified = study.runs.filter((row) => row.state === "unverified");
    const others = study.runs.filter((row) => row.state === "finished" && !isCompared(study, row));
    replace(training, h("h2", {}, progress.open ? "Training" : "Training is over"),
            h("p", {}, `${finished} of ${plural(study.runs.length, "run")} finished`
              + (now.length ? `, ${now.length} in training` : "") + (open.length ? `, ${open.length} waiting` : "")
              + (failed.length ? `, ${failed.length} failed` : "") + (unverified.length ? `, ${unverified.length} unverified` : "")
              + (progress.open && progress.seconds_left !== null ? `; about ${seconds(progress.seconds_left)} left` : "")
              + (progress.open && !now.length && !isReport ? "; no process is training this study now" : "")),
            progress.open ? h("progress", { value: progress.fraction, max: 1, class: "whole", "aria-label": "the study" }) : null,
            now.length ? h("ul", { class: "bare" }, ...now.map(bar)) : null,
            unverified.length ? h("p", {}, `${plural(unverified.length, "run")} from elsewhere came without predictions, and ${unverified.length === 1 ? "is" : "are"} not compared: `,
              ...unverified.flatMap((row, i) => [i ? ", " : "", runLink(study, row.run)])) : null,
            others.length ? h("p", {}, `${plural(others.length, "run")} used another version of the image set, and ${others.length === 1 ? "is" : "are"} not compared: `,
              ...others.flatMap((row, i) => [i ? ", " : "", runLink(study, row.run)])) : null,
            ...failed.map((row) => h("p", { class: "failure" }, mark(study, row.candidate), ` ${row.run} failed: ${row.reason}`)));
  };

  const drawFacts = () => {
    const { study } = page;
    const warning = (one: Warning) => h("li", {}, runLink(study, one.run), ` epoch ${one.epoch}: ${one.message}`);
    replace(facts, h("h2", {}, "What it is compared on"),
            h("p", {}, `${plural(study.classes.length, "class", "classes")}, image set version ${study.image_set_version}: `
              + ["training", "validation", "test"].filter((part) => study.parts[part]).map((part) => `${count(study.parts[part]!)} ${part}`).join(", ") + "."),
            h("p", { class: study.test_looks ? "looked" : "" }, study.test_look_line.trim().replace(/^t/, "T") + "."),
            h("h3", {}, study.warnings.length ? plural(study.warnings.length, "warning") : "No warnings"),
            study.warnings.length ? h("ul", { class: "bare warnings" }, ...study.warnings.slice(-8).reverse().map(warning)) : null);
  };

  const draw = async () => {
    const mine = ++asked;
    drawTraining();
    drawFacts();
    if (!answer.hasChildNodes()) replace(answer, loading("the evidence"));
    const wanted = params.text("cost");
    const begun = performance.now();
    try {
      const result = await ask<Choice>("choice", wanted ? { cost: wanted } : {});
      took = performance.now() - begun;
      if (mine === asked) drawChoice(result);
    } catch (error) {
      if (mine === asked) replace(answer, failure(error), nothing("Runs and their curves are shown all the same."));
    }
  };

  return {
    show(to) {
      params = to;
      return draw();
    },
    // The evidence is gathered anew when a run has ended, and not so often that training would notice.
    news(news: News | null) {
      drawTraining();
      drawFacts();
      if (news && !news.runs.some((row) => row.state === "finished" || row.state === "failed")) return;
      clearTimeout(waiting);
      waiting = window.setTimeout(() => void draw(), Math.max(0, drawn + Math.min(60_000, 50 * took) - performance.now()));
    },
    close() {
      clearTimeout(waiting);
      chart?.close();
    },
  };
}
