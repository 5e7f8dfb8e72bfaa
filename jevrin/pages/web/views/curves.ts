// Curves of any runs, overlaid; the table of runs beside them shows their values where the pointer is.
import { ask, Curve, curvesOf, News, RunRow } from "../data";
import { Page, View, colourOf, isCompared, runLink, runsCalled, mark, scoreOf } from "../page";
import { amend, change, Params } from "../address";
import { Chart, Point, Series, nearest } from "../chart";
import { DataTable, Column } from "../table";
import { h, replace, failure, choice, checkbox, labelled, debounced } from "../dom";
import { decimal, plain, seconds, short } from "../format";

const quantities: [string, string][] = [
  ["loss", "loss"], ["objective", "training objective"], ["accuracy", "accuracy"],
  ["balanced_accuracy", "balanced accuracy"], ["macro_f1", "macro F1"], ["learning_rate", "learning rate"],
];
const axes: [string, string][] = [["epoch", "epoch"], ["step", "optimiser steps"], ["seconds", "seconds of training"], ["examples", "examples seen"]];
const onTrainingAlone = ["objective", "learning_rate"];
const mostRuns = 60;

// Exponentially weighted mean of what came before, corrected for the beginning.
function smoothed(points: Point[], weight: number): Point[] {
  let sum = 0;
  let weights = 0;
  return points.map(([x, y]) => {
    sum = weight * sum + (1 - weight) * y;
    weights = weight * weights + (1 - weight);
    return [x, sum / weights];
  });
}

function pointsOf(curve: Curve, axis: string, column: string): Point[] {
  const xs = curve.columns[axis] ?? [];
  const ys = curve.columns[column] ?? [];
  return ys.map((y, i) => [xs[i] ?? i + 1, y ?? NaN] as Point);
}

// Of several runs, as far as all of them reach: the mean, the lowest and the highest.
function bandOf(all: Point[][]): { mean: Point[]; band: [number, number, number][] } {
  const length = Math.min(...all.map((one) => one.length));
  const mean: Point[] = [];
  const band: [number, number, number][] = [];
  for (let i = 0; i < length; ++i) {
    const ys = all.map((one) => one[i]![1]);
    const x = all.reduce((sum, one) => sum + one[i]![0], 0) / all.length;
    mean.push([x, ys.reduce((sum, y) => sum + y, 0) / ys.length]);
    band.push([x, Math.min(...ys), Math.max(...ys)]);
  }
  return { mean, band };
}

interface Row { run: RunRow; settings: { [key: string]: string } }
interface Group { value: string; rows: Row[]; mean: number | null; low: number | null; high: number | null; seconds: number }

export function curvesView(main: HTMLElement, page: Page): View {
  const heading = h("h1", {}, "Curves");
  const controls = h("div", { class: "controls" });
  const charts = h("section", { class: "charts" });
  const side = h("section", { class: "side" });
  main.append(heading, controls, h("div", { class: "two wide-left" }, charts, side));
  let params = new Params();
  let drawn: { quantity: string; chart: Chart }[] = [];
  let curves = new Map<string, Curve>();
  let selected: string[] = [];
  let series = new Map<string, Series[]>();  // by quantity
  let settings: { differing: string[]; rows: Map<string, { [key: string]: string }> } = { differing: [], rows: new Map() };
  let asked = 0;
  let settingsKnown = false;

  const shown = () => {
    const list = params.list("show").filter((name) => quantities.some(([known]) => known === name));
    return list.length ? list : [page.study.metric, "loss"];
  };
  const axis = () => (axes.some(([name]) => name === params.text("over")) ? params.text("over") : "epoch");
  const parts = () => params.text("parts", "validation");

  // The settings that are not the same in all runs, by the ends of their names where these are clear.
  const settingColumns = (): Column<Row>[] => settings.differing.map((key) => {
    const end = key.split(".").pop()!;
    const sole = settings.differing.filter((other) => other === end || other.endsWith("." + end)).length === 1;
    return { key, head: sole ? end : key, value: (row: Row) => {
      const text = row.settings[key] ?? "";
      return text !== "" && isFinite(Number(text)) ? Number(text) : text;
    } };
  });

  const columns = (): Column<Row>[] => {
    const metric = page.study.metric;
    const settled = params.is("settings");
    const list: Column<Row>[] = [
      { key: "run", head: "run", value: (row) => row.run.run, cell: (row) => runLink(page.study, row.run.run) },
      { key: "at", head: "at pointer", numeric: true, title: "the value where the pointer is, in the first chart", value: (row) => valueAt(row.run.run, params.text("pin") ? params.number("pin", NaN) : null),
        cell: (row) => h("span", { class: "here" }, short(valueAt(row.run.run, params.text("pin") ? params.number("pin", NaN) : null))) },
      { key: metric, head: "best", numeric: true, title: `${page.study.spoken_metric} at the best epoch`, value: (row) => scoreOf(page.study, row.run), cell: (row) => decimal(scoreOf(page.study, row.run)) },
      ...(settled ? settingColumns() : []),
      { key: "best_epoch", head: "epoch", numeric: true, title: "the best epoch", value: (row) => row.run.best_epoch },
      { key: "epochs", head: "of", numeric: true, title: "epochs that are done", value: (row) => row.run.epochs },
      { key: "seconds", head: "time", numeric: true, value: (row) => row.run.seconds, cell: (row) => seconds(row.run.seconds) },
      { key: "regime", head: "regime", value: (row) => row.run.regime },
      ...(page.study.runs.every((row) => isCompared(page.study, row)) ? [] : [
        { key: "image_set_version", head: "set", numeric: true, title: "version of the image set", value: (row: Row) => row.run.image_set_version }]),
      { key: "state", head: "state", value: (row) => row.run.state },
      { key: "seed", head: "seed", numeric: true, value: (row) => row.run.seed },
    ];
    return list;
  };

  const table: DataTable<Row> = new DataTable<Row>({
    columns: columns(), caption: "runs", id: (row) => row.run.run, filename: `${page.study.study}-runs`, selected: new Set(), most: 100,
    onSort: (sort) => change({ sort }), onFilter: debounced(() => amend({ filter: table.filter }), 200) as (filter: string) => void,
    onSelect: (row, event) => {
      const names = new Set(selected);
      if ((event as MouseEvent).ctrlKey || (event as MouseEvent).metaKey || (event as KeyboardEvent).key === " ") {
        if (!names.delete(row.run.run)) names.add(row.run.run);
        change({ runs: [...names] });
      } else {
        change({ runs: names.size === 1 && names.has(row.run.run) ? null : [row.run.run] });
      }
    },
    onPoint: (row) => highlight(row?.run.run ?? null),
  });

  // Runs that share a value of a column, as a row of its own each.
  const groupTable = (rows: Row[]): HTMLElement | null => {
    const column = [...columns(), ...settingColumns(), { key: "candidate", head: "candidate", value: (row: Row) => row.run.candidate }].find((one) => one.key === params.text("group"));
    if (!column) return null;
    const groups = new Map<string, Row[]>();
    for (const row of rows) {
      const value = String(column.value(row) ?? "–");
      groups.set(value, [...(groups.get(value) ?? []), row]);
    }
    const list: Group[] = [...groups].map(([value, members]) => {
      const scores = members.flatMap((row) => (row.run.state === "finished" ? scoreOf(page.study, row.run) ?? [] : []));
      return { value, rows: members, mean: scores.length ? scores.reduce((a, b) => a + b, 0) / scores.length : null,
               low: scores.length ? Math.min(...scores) : null, high: scores.length ? Math.max(...scores) : null,
               seconds: members.reduce((sum, row) => sum + (row.run.seconds ?? 0), 0) };
    });
    const grouped = new DataTable<Group>({ caption: `runs by ${column.head}`, id: (row) => row.value, filename: `${page.study.study}-groups`, most: 30,
      onSelect: (row) => change({ runs: row.rows.map((one) => one.run.run) }),
      columns: [
        { key: "value", head: column.head, value: (row) => row.value },
        { key: "runs", head: "runs", numeric: true, value: (row) => row.rows.length },
        { key: "mean", head: "mean best", numeric: true, value: (row) => row.mean, cell: (row) => decimal(row.mean) },
        { key: "range", head: "lowest to highest", value: (row) => (row.low === null ? "" : `${decimal(row.low)} to ${decimal(row.high)}`) },
        { key: "seconds", head: "time", numeric: true, value: (row) => row.seconds, cell: (row) => seconds(row.seconds) },
      ] });
    grouped.setRows(list);
    return grouped.element;
  };

  const highlight = (run: string | null) => {
    const candidate = run === null ? null : page.study.runs.find((row) => row.run === run)?.candidate ?? null;
    for (const { chart } of drawn) chart.highlight(params.is("bands") ? candidate && `${candidate}` : run);
  };

  // Of the first quantity, by run: what is told where the pointer is.
  const told = new Map<string, Point[]>();
  const pointsTold = (run: string): Point[] => {
    let points = told.get(run);
    if (!points) {
      const curve = curves.get(run);
      const quantity = shown()[0]!;
      const part = parts() === "training" || onTrainingAlone.includes(quantity) ? "training" : "validation";
      points = curve && selected.includes(run) ? pointsOf(curve, axis(), `${part}_${quantity}`) : [];
      told.set(run, points);
    }
    return points;
  };
  const valueAt = (run: string, x: number | null): number | null => {
    if (x === null) return null;
    const points = pointsTold(run);
    const point = nearest(points, x);
    return point && x >= points[0]![0] && x <= points[points.length - 1]![0] ? point[1] : null;
  };

  const point = (x: number | null, from: Chart) => {
    for (const { chart } of drawn) if (chart !== from) chart.point(x);
    const at = x ?? (params.text("pin") ? params.number("pin", NaN) : null);
    for (const row of table.visible()) {
      const text = table.cellOf(row.run.run, "at")?.firstElementChild;
      const value = short(valueAt(row.run.run, at));
      if (text && text.textContent !== value) text.textContent = value;
    }
  };

  const seriesOf = (quantity: string): Series[] => {
    const { study } = page;
    const over = axis();
    const weight = Math.min(0.99, Math.max(0, params.number("smooth", 0)));
    const drawnParts = onTrainingAlone.includes(quantity) ? ["training"] : parts() === "both" ? ["training", "validation"] : [parts()];
    const result: Series[] = [];
    const groups = new Map<string, string[]>();
    for (const run of selected) {
      const row = study.runs.find((one) => one.run === run)!;
      const group = params.is("bands") ? row.candidate : run;
      groups.set(group, [...(groups.get(group) ?? []), run]);
    }
    for (const part of drawnParts)
      for (const [group, runs] of groups) {
        const candidate = study.runs.find((one) => one.run === runs[0])!.candidate;
        const colour = colourOf(study, candidate);
        const raw = runs.flatMap((run) => (curves.has(run) ? [pointsOf(curves.get(run)!, over, `${part}_${quantity}`)] : [])).filter((points) => points.length);
        if (!raw.length) continue;
        const smooth = weight > 0 ? raw.map((points) => smoothed(points, weight)) : raw;
        const { mean, band } = runs.length > 1 ? bandOf(smooth) : { mean: smooth[0]!, band: undefined };
        const first = study.runs.find((one) => one.run === runs[0])!;
        const best = part === "validation" && runs.length === 1 && groups.size <= 24 && first.best_epoch !== null ? mean[first.best_epoch - 1] ?? null : null;
        if (weight > 0 && runs.length === 1) result.push({ id: `${group} raw`, name: group, colour, points: raw[0]!, faint: true });
        result.push({ id: group, name: `${group}, ${part}`, colour, points: mean, band, best, dashed: part === "training" && drawnParts.length > 1 });
      }
    return result;
  };

  // An axis of epochs is as long as the longest plan, so that it stays while curves grow.
  const planned = (): [number, number] | null => {
    const epochs = axis() === "epoch" ? Math.max(...selected.map((run) => page.study.runs.find((row) => row.run === run)!.planned_epochs)) : 0;
    return epochs > 1 ? [1, epochs] : null;
  };

  const drawCharts = () => {
    const names = shown();
    const zoom: [number, number] | null = params.text("from") && params.text("to") ? [params.number("from", 0), params.number("to", 1)] : null;
    const height = names.length === 1 ? 520 : names.length === 2 ? 285 : 210;
    if (drawn.map((one) => one.quantity).join() !== names.join()) {
      for (const { chart } of drawn) chart.close();
      drawn = names.map((quantity) => {
        const chart: Chart = new Chart({ title: quantity, xLabel: "", yLabel: "", height,
          onPoint: (x) => point(x, chart), onPin: (x) => change({ pin: x }),
          onZoom: (domain) => change(domain ? { from: domain[0].toPrecision(6), to: domain[1].toPrecision(6) } : { from: null, to: null }) });
        return { quantity, chart };
      });
      replace(charts, ...drawn.map((one) => one.chart.element));
    }
    series = new Map(names.map((quantity) => [quantity, seriesOf(quantity)]));
    for (const { quantity, chart } of drawn)
      chart.set(series.get(quantity)!, {
        title: `${page.study.study}: ${quantities.find(([name]) => name === quantity)![1]}`, height,
        xLabel: axes.find(([name]) => name === axis())![1], yLabel: quantities.find(([name]) => name === quantity)![1],
        log: params.is("log"), xDomain: zoom ?? planned(), whole: axis() === "epoch", pin: params.text("pin") ? params.number("pin", NaN) : null,
      });
  };

  const drawTable = () => {
    told.clear();
    table.sort = params.text("sort");
    table.alsoFilteredBy = params.is("settings") ? [] : settingColumns();
    table.setColumns(columns());
    table.setRows(page.study.runs.map((run) => ({ run, settings: settings.rows.get(run.run) ?? {} })));
    table.setSelected(new Set(selected));
    const groups = groupTable(table.visible());
    replace(side, groups, table.element);
  };

  const drawControls = () => {
    const names = shown();
    const smoothing = h("input", { type: "range", min: 0, max: 0.95, step: 0.05, value: params.number("smooth", 0), "aria-label": "smoothing" });
    smoothing.addEventListener("input", () => {
      amend({ smooth: Number(smoothing.value) || null });
      params = params.with({ smooth: Number(smoothing.value) || null });
      drawCharts();
    });
    const shownBoxes = h("details", { class: "menu" }, h("summary", {}, `show ${names.map((name) => quantities.find(([one]) => one === name)![1]).join(", ")}`),
      h("div", {}, ...quantities.map(([name, text]) => checkbox(text, names.includes(name), (on) => {
        const next = on ? [...names, name].slice(-4) : names.filter((one) => one !== name);
        change({ show: next });
      }))));
    replace(controls, shownBoxes,
            labelled("part", choice([["validation", "validation"], ["training", "training"], ["both", "both (training dashed)"]], parts(), (value) => change({ parts: value === "validation" ? null : value }))),
            labelled("over", choice(axes, axis(), (value) => change({ over: value === "epoch" ? null : value, from: null, to: null, pin: null }))),
            labelled("smoothing", smoothing),
            checkbox("logarithmic", params.is("log"), (on) => change({ log: on })),
            checkbox("bands over seeds", params.is("bands"), (on) => change({ bands: on })),
            checkbox("differing settings", params.is("settings"), (on) => change({ settings: on })),
            labelled("group by", choice([["", "nothing"], ["candidate", "candidate"], ["regime", "regime"], ["state", "state"], ["seed", "seed"],
              ...settings.differing.map((key) => [key, key] as [string, string])], params.text("group"), (value) => change({ group: value }))),
            params.list("runs").length ? h("button", { type: "button", class: "small", onclick: () => change({ runs: null }) }, "all runs") : null,
            params.text("from") ? h("button", { type: "button", class: "small", onclick: () => change({ from: null, to: null }) }, "whole axis") : null,
            params.text("pin") ? h("button", { type: "button", class: "small", onclick: () => change({ pin: null }) }, `unpin ${plain(params.number("pin", 0))}`) : null);
  };

  // The runs of the address; without any, all, or those of the best candidates while there are too many.
  const select = () => {
    const named = runsCalled(page.study, params.list("runs"));
    if (named.length) return named;
    const begun = page.study.runs.filter((row) => row.epochs > 0);
    if (begun.length <= mostRuns) return begun.map((row) => row.run);
    return [...begun].sort((a, b) => (scoreOf(page.study, b) ?? -1) - (scoreOf(page.study, a) ?? -1)).slice(0, mostRuns).map((row) => row.run);
  };

  const draw = async (again: string[] | null) => {
    const mine = ++asked;
    selected = select();
    const candidates = new Set(selected.map((run) => page.study.runs.find((row) => row.run === run)!.candidate));
    replace(heading, `Curves of ${selected.length === 1 ? selected[0] : `${selected.length} of ${page.study.runs.length} runs`}`,
            candidates.size > 1 && candidates.size <= 12 ? h("span", { class: "legend" }, ...[...candidates].map((one) =>
              h("button", { type: "button", class: "plain", title: one, onclick: () => change({ runs: [one] }) }, mark(page.study, one)))) : null);
    drawControls();
    drawTable();
    const wanted = selected.filter((run) => !curves.has(run) || again === null || again.includes(run));
    try {
      for (const curve of await curvesOf(wanted)) curves.set(curve.run, curve);
      if (mine !== asked) return;
      drawTable();
      drawCharts();
      if (settingsKnown) return;
      const answer = await ask<{ differing: string[]; runs: { run: string; settings: { [key: string]: string } }[] }>("settings");
      settings = { differing: answer.differing, rows: new Map(answer.runs.map((one) => [one.run, one.settings])) };
      settingsKnown = true;
      if (mine !== asked) return;
      drawControls();
      drawTable();
    } catch (error) {
      if (mine === asked) replace(charts, failure(error));
      drawn = [];
    }
  };

  // More epochs of runs that are shown: nothing else is drawn anew.
  const grow = async (news: News) => {
    const mine = asked;
    try {
      for (const curve of await curvesOf(news.runs.map((run) => run.run).filter((run) => selected.includes(run)))) curves.set(curve.run, curve);
    } catch {
      return;  // the next news, or what tells that the server is gone
    }
    if (mine !== asked) return;
    told.clear();
    table.update(news.runs.map((run) => ({ run, settings: settings.rows.get(run.run) ?? {} })));
    drawCharts();
  };

  replace(side, table.element);
  return {
    show(to) {
      params = to;
      if (table.filter !== params.text("filter")) table.filter = params.text("filter");
      return draw([]);
    },
    news(news: News | null) {
      if (!news) settingsKnown = false;
      const before = selected.join("\n");
      if (!news || !drawn.length || select().join("\n") !== before) void draw(news ? news.runs.map((run) => run.run) : null);
      else void grow(news);
    },
    close() {
      for (const { chart } of drawn) chart.close();
    },
  };
}
