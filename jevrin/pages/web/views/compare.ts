// Two candidates: the difference of their matrices, what each class gains, and the pictures they disagree about.
import { ask, News } from "../data";
import { Page, View, candidateName, colourOf, isCompared, mark, runsOf } from "../page";
import { change, amend, Params } from "../address";
import { MatrixView } from "../matrix";
import { Viewer, thumbnail, Item } from "../pictures";
import { DataTable } from "../table";
import { h, svg, replace, failure, loading, choice, labelled, nothing } from "../dom";
import { decimal, interval, pathOf, plural } from "../format";

type Share = [number, number, number];  // right, runs, predicted
interface Gain { class: string; items: number; first: number; second: number; gain: number; interval: [number, number]; adjusted_p: number; beyond_chance: boolean }
interface Difference {
  classes: string[]; difference: number[][]; seeds: number;
  cells: { true: string; predicted: string; first: number; second: number; difference: number; interval: [number, number]; beyond_chance: boolean }[];
  gains: Gain[]; items: [string, number, Share, Share][];
}

function gainBar(gain: Gain, most: number, colours: [string, string]): SVGElement {
  const x = (value: number) => 80 + (76 * Math.max(-most, Math.min(most, value))) / most;
  return svg("svg", { width: 160, height: 16, class: "whisker", "aria-hidden": "true" },
             svg("line", { x1: 4, x2: 156, y1: 8, y2: 8, class: "scale" }), svg("line", { x1: 80, x2: 80, y1: 1, y2: 15, class: "scale" }),
             svg("line", { x1: x(gain.interval[0]), x2: x(gain.interval[1]), y1: 8, y2: 8, stroke: colours[gain.gain >= 0 ? 0 : 1], "stroke-width": 3, "stroke-opacity": gain.beyond_chance ? 1 : 0.5 }),
             svg("circle", { cx: x(gain.gain), cy: 8, r: 4, fill: colours[gain.gain >= 0 ? 0 : 1] }));
}

export function compareView(main: HTMLElement, page: Page): View {
  const heading = h("header", { class: "run-head" });
  const matrixBox = h("section", { class: "matrix-side" });
  const gains = h("section");
  const pictures = h("section", { class: "pictures" });
  main.append(heading, h("div", { class: "two" }, matrixBox, h("div", {}, gains, pictures)));
  const viewer = new Viewer(page);
  let params = new Params();
  let matrix: MatrixView | null = null;
  let shown = "";
  let items: Difference["items"] = [];

  const comparedRuns = (candidate: string) => runsOf(page.study, candidate).filter((row) => row.state === "finished" && isCompared(page.study, row));
  const sides = (): [string, string] => {
    const candidates = page.study.candidates.map((one) => one.candidate).filter((one) => comparedRuns(one).length);
    const best = [...candidates].sort((a, b) => mean(b) - mean(a));
    const first = params.text("first") || best[0] || "";
    return [first, params.text("second") || best.find((one) => one !== first) || ""];
  };
  const mean = (candidate: string) => {
    const scores = comparedRuns(candidate).map((row) => row[page.study.metric] ?? 0);
    return scores.reduce((a, b) => a + b, 0) / (scores.length || 1);
  };

  // What one has right and the other wrong.
  const chosen = () => items.filter(([, label, first, second]) => {
    const gap = first[0] / first[1] - second[0] / second[1];
    const side = params.text("right", "first");
    const wanted = params.text("true");
    return (side === "first" ? gap > 0 : gap < 0) && (!wanted || page.study.classes[label] === wanted);
  });
  const asItems = (): Item[] => chosen().map(([id, label, first, second]) => [id, label, params.text("right", "first") === "first" ? second[2] : first[2], 0, 0]);

  const drawPictures = ([first, second]: [string, string]) => {
    const side = params.text("right", "first");
    const { classes } = page.study;
    const list = chosen();
    const text = (share: Share) => (share[1] === 1 ? classes[share[2]]! : `${share[0]} of ${share[1]} right`);
    replace(pictures, h("h2", {}, `Right by one, wrong by the other: ${plural(list.length, "picture")}`),
            h("div", { class: "controls" },
              labelled("more often right", choice([["first", first], ["second", second]], side, (value) => change({ right: value === "first" ? null : value }))),
              labelled("class", choice([["", "every class"], ...classes.map((name) => [name, name] as [string, string])], params.text("true"), (value) => change({ true: value })))),
            list.length ? h("ul", { class: "gallery" }, ...list.slice(0, 200).map(([id, label, a, b]) =>
              h("li", {}, h("button", { type: "button", class: "picture", "data-item": id, title: pathOf(id), onclick: () => change({ item: id }) },
                            thumbnail(id, 84, classes[label]!), h("span", { class: "said" }, classes[label]!),
                            h("span", { class: "said" }, mark(page.study, first), text(a)), h("span", { class: "said" }, mark(page.study, second), text(b)))))) : nothing("none"));
  };

  const drawViewer = () => {
    const item = params.text("item");
    if (!item) return viewer.hide();
    void viewer.show(item, asItems(), { run: null, move: (next) => {
      params = params.with({ item: next });
      amend({ item: next });
      drawViewer();
    }, close: () => params.text("item") && change({ item: null }) });
  };

  const draw = async () => {
    const [first, second] = sides();
    const names: [string, string][] = page.study.candidates.map((one) => [one.candidate, one.candidate]);
    const pickers = h("div", { class: "controls" }, mark(page.study, first), choice(names, first, (value) => change({ first: value, second })), "against",
                      mark(page.study, second), choice(names, second, (value) => change({ first, second: value })));
    if (!first || !second) {
      replace(heading, h("h1", {}, "Two candidates"), nothing("Two candidates with finished runs can be compared."));
      return;
    }
    shown = `${first}\n${second}`;
    const mine = shown;
    if (!matrixBox.hasChildNodes()) replace(heading, pickers, loading("both"));
    try {
      const result = await ask<Difference>("difference", { first, second });
      if (mine !== shown) return;
      items = result.items;
      const beyond = result.cells.filter((cell) => cell.beyond_chance);
      const gained = result.gains.filter((one) => one.beyond_chance);
      replace(heading, pickers, h("h1", {}, beyond.length || gained.length
        ? `${plural(beyond.length, "cell")} of the matrix and the recall of ${plural(gained.length, "class", "classes")} differ beyond chance`
        : `No cell of the matrix and no class differs beyond chance`),
        h("p", { class: "evidence" }, `Fractions of the true class, mean over ${plural(result.seeds, "seed")}; blue: more in `, candidateName(page.study, first),
          ", orange: more in ", candidateName(page.study, second), result.seeds < 3 ? ". With fewer than three seeds nothing is called beyond chance." : ". Outlined: beyond chance after correction for all cells."));
      const { classes } = result;
      const place = new Map(classes.map((name, i) => [name, i]));
      const values = new Float64Array(classes.length ** 2);
      result.difference.forEach((row, r) => row.forEach((value, c) => (values[r * classes.length + c] = value)));
      const cells = new Map(result.cells.map((cell) => [place.get(cell.true)! * classes.length + place.get(cell.predicted)!, cell]));
      matrix?.close();
      matrix = new MatrixView({ title: `${first} minus ${second}: confusion matrices`, classes, onPick: (cell) => cell.row !== undefined && change({ true: classes[cell.row]! }),
        describe: (r, c, value) => {
          const cell = cells.get(r * classes.length + c);
          return `${classes[r]} predicted as ${classes[c]}: ${cell ? `${decimal(cell.first)} and ${decimal(cell.second)}, ${value > 0 ? "+" : ""}${decimal(value)} (${interval(...cell.interval)})` : "none by either"}`;
        } });
      matrix.set(values, "difference", [...classes.keys()], new Set([...cells].filter(([, cell]) => cell.beyond_chance).map(([at]) => at)));
      replace(matrixBox, h("h2", {}, "Difference of the confusion matrices, in points of 100"), matrix.element);
      const most = Math.max(0.05, ...result.gains.flatMap((one) => one.interval.map(Math.abs)));
      const colours: [string, string] = [colourOf(page.study, first), colourOf(page.study, second)];
      const table = new DataTable<Gain>({ caption: "recall by class", id: (row) => row.class, filename: "difference-by-class", most: 60, sort: params.text("sort"), onSort: (sort) => change({ sort }),
        onSelect: (row) => change({ true: params.text("true") === row.class ? null : row.class }),
        columns: [
          { key: "class", head: "class", value: (row) => row.class },
          { key: "items", head: "items", numeric: true, value: (row) => row.items },
          { key: "first", head: "first", numeric: true, value: (row) => row.first, cell: (row) => decimal(row.first) },
          { key: "second", head: "second", numeric: true, value: (row) => row.second, cell: (row) => decimal(row.second) },
          { key: "gain", head: "gain", numeric: true, value: (row) => row.gain, cell: (row) => `${row.gain > 0 ? "+" : ""}${decimal(row.gain)}` },
          { key: "interval", head: "95 % interval", value: (row) => interval(...row.interval), cell: (row) => h("span", { title: interval(...row.interval) }, gainBar(row, most, colours)) },
          { key: "beyond", head: "", value: (row) => (row.beyond_chance ? "beyond chance" : "") },
        ] });
      table.setRows(result.gains);
      replace(gains, h("h2", {}, "Recall, class by class"), table.element);
      drawPictures([first, second]);
      drawViewer();
    } catch (error) {
      if (mine === shown) {
        replace(heading, pickers, h("h1", {}, "Two candidates"), failure(error));
        for (const box of [matrixBox, gains, pictures]) replace(box);
      }
    }
  };

  return {
    show(to) {
      const before = params;
      params = to;
      if (shown === sides().join("\n") && before.text("sort") === params.text("sort")) {
        drawPictures(sides());
        drawViewer();
        return;
      }
      return draw();
    },
    news(news: News | null) {
      const [first, second] = sides();
      if (!news || news.runs.some((row) => row.state === "finished" && (row.candidate === first || row.candidate === second))) void draw();
    },
    close() {
      matrix?.close();
      viewer.remove();
    },
  };
}
