// One run: its matrix as a film through its epochs, its classes, and the pictures behind every cell.
import { ask, isReport, News } from "../data";
import { Page, View, bestRun, mark, rowOf, scoreOf } from "../page";
import { amend, change, Params } from "../address";
import { Cell, CellValue, MatrixView, Order, bySimilarity } from "../matrix";
import { LayersPanel } from "./layers";
import { Item, Viewer, gallery } from "../pictures";
import { DataTable } from "../table";
import { h, replace, failure, loading, choice, debounced, labelled, nothing, onFrame } from "../dom";
import { decimal, interval, plural, seconds, count } from "../format";

interface Matrices { run: string; best_epoch: number | null; epochs: { epoch: number; cells: number[] }[] }
interface RunFacts {
  spoken_state: string; reason: string; epochs: number; planned_epochs: number; best_epoch: number | null; plan: string;
  diagnosis: { finding: string; findings: { finding: string; evidence: string }[] } | null;
  warnings: { epoch: number; message: string }[]; parameters: number; trainable_parameters: number; seconds: number | null;
}
interface ClassRow {
  class: string; support: number; correct: number; false_positives: number; false_negatives: number; precision: number; recall: number; f1: number;
  roc_auc: number | null; average_precision: number | null; recall_interval: [number, number] | null;
}
interface Scores { scores: { [name: string]: { value: number; interval: [number, number] | null; majority: number | null; random: number | null } } }

const outcomes: [string, string][] = [["wrong", "wrong"], ["right", "right"], ["all", "all"]];

export function runView(main: HTMLElement, page: Page): View {
  const heading = h("header", { class: "run-head" });
  const matrixBox = h("section", { class: "matrix-side" });
  const classBox = h("section", { class: "classes" });
  const pictureBox = h("section", { class: "pictures" });
  const below = h("section", { class: "below" });
  main.append(heading, h("div", { class: "two wide-left" }, matrixBox, h("div", {}, classBox, pictureBox)), below);
  const viewer = new Viewer(page);
  let params = new Params();
  let run = "";
  let matrices: Matrices | null = null;
  let items: Item[] = [];      // of the epoch that is shown
  let bestItems: Item[] = [];
  let frames = new Map<number, Float64Array>();
  let matrix: MatrixView | null = null;
  let order: number[] | null = null;
  let playing = 0;
  const layers = new LayersPanel(page);
  const slider = h("input", { type: "range", min: 1, max: 1, step: 1, "aria-label": "epoch" });
  const epochText = h("output", { class: "number" });
  const otherEpoch = h("p", { class: "quiet small" });
  const play = h("button", { type: "button", class: "small" }, "play");

  const classes = () => page.study.classes;
  const epochIndex = () => {
    if (!matrices?.epochs.length) return -1;
    const wanted = params.number("epoch", matrices.best_epoch ?? matrices.epochs[matrices.epochs.length - 1]!.epoch);
    const found = matrices.epochs.findIndex((one) => one.epoch === wanted);
    return found >= 0 ? found : matrices.epochs.length - 1;
  };
  const frame = (index: number): Float64Array => {
    let dense = frames.get(index);
    if (!dense) {
      dense = new Float64Array(classes().length ** 2);
      const { cells } = matrices!.epochs[index]!;
      for (let i = 0; i < cells.length; i += 2) dense[cells[i]!] = cells[i + 1]!;
      frames.set(index, dense);
    }
    return dense;
  };

  const drawFrame = () => {
    const index = epochIndex();
    if (index < 0 || !matrix) return;
    const { epoch } = matrices!.epochs[index]!;
    const values = frame(index);
    const byName = [...classes().keys()];
    if (params.text("order") === "similarity" && !order) {
      const best = matrices!.epochs.findIndex((one) => one.epoch === matrices!.best_epoch);
      order = bySimilarity(frame(best >= 0 ? best : index), classes().length);
    }
    matrix.set(values, params.text("value", "counts") as CellValue, params.text("order") === "similarity" ? order! : byName);
    let correct = 0;
    let total = 0;
    for (let i = 0; i < values.length; ++i) total += values[i]!;
    for (let c = 0; c < classes().length; ++c) correct += values[c * classes().length + c]!;
    slider.max = String(matrices!.epochs.length);
    slider.value = String(index + 1);
    slider.setAttribute("aria-valuetext", `epoch ${epoch}`);
    epochText.textContent = `epoch ${epoch} of ${matrices!.epochs[matrices!.epochs.length - 1]!.epoch}${epoch === matrices!.best_epoch ? " (best)" : ""}: ${count(correct)} of ${count(total)} right`;
  };

  const stop = () => {
    cancelAnimationFrame(playing);
    playing = 0;
    play.textContent = "play";
  };
  const tellAddress = debounced(() => amend({ epoch: params.text("epoch") }), 150);
  const toEpoch = (index: number) => {
    const epoch = matrices!.epochs[index]!.epoch;
    params = params.with({ epoch: epoch === matrices!.best_epoch ? null : epoch });
    tellAddress();
    drawFrame();
  };
  slider.addEventListener("input", onFrame(() => {
    stop();
    toEpoch(Number(slider.value) - 1);
    tellPictures();
  }) as () => void);
  play.addEventListener("click", () => {
    if (playing) return stop();
    if (!matrices) return;
    play.textContent = "pause";
    let index = epochIndex() + 1 >= matrices.epochs.length ? 0 : epochIndex();
    let last = 0;
    const pause = Math.max(45, Math.min(300, 6000 / matrices.epochs.length));
    const next = (time: number) => {
      if (time - last >= pause) {
        last = time;
        toEpoch(index++);
      }
      if (index < matrices!.epochs.length) playing = requestAnimationFrame(next);
      else {
        stop();
        tellPictures();
      }
    };
    playing = requestAnimationFrame(next);
  });

  const chosenItems = (): Item[] => {
    const row = classes().indexOf(params.text("true"));
    const column = classes().indexOf(params.text("predicted"));
    const outcome = params.text("outcome", row >= 0 && column >= 0 ? "all" : "wrong");
    return items.filter(([, label, predicted]) => (row < 0 || label === row) && (column < 0 || predicted === column)
      && (outcome === "all" || (outcome === "right") === (label === predicted)));
  };

  const pick = (cell: Partial<Cell>) => {
    const names = { true: cell.row === undefined ? null : classes()[cell.row]!, predicted: cell.column === undefined ? null : classes()[cell.column]! };
    const same = (names.true ?? "") === params.text("true") && (names.predicted ?? "") === params.text("predicted");
    change(same ? { true: null, predicted: null, outcome: null } : { ...names, outcome: cell.row !== undefined && cell.column !== undefined ? null : "all" });
  };

  const shownEpoch = () => (epochIndex() >= 0 ? matrices!.epochs[epochIndex()]!.epoch : null);
  // Items as they were called at the epoch of the matrix: asked for when the film has stopped there.
  const tellPictures = debounced(() => void (async () => {
    const mine = run;
    const epoch = shownEpoch();
    const best = matrices?.best_epoch ?? null;
    let list = bestItems;
    let note = "";
    if (epoch !== null && epoch !== best && bestItems.length) {
      try {
        list = (await ask<{ items: Item[] }>("items", { run, epoch: String(epoch) })).items;
        note = `predictions of epoch ${epoch}`;
      } catch {
        note = `pictures are those of the best epoch, ${best}`;
      }
    }
    if (mine !== run || epoch !== shownEpoch() || (list === items && note === otherEpoch.textContent)) return;
    items = list;
    otherEpoch.textContent = note;
    drawPictures();
  })(), 200);

  const drawPictures = () => {
    if (!items.length) return;
    const list = chosenItems();
    const [row, column] = [params.text("true"), params.text("predicted")];
    const outcome = params.text("outcome", row && column ? "all" : "wrong");
    const what = row && column ? `${row} predicted as ${column}` : row ? `${row}` : column ? `predicted as ${column}` : "every class";
    replace(pictureBox, h("h2", {}, `${what}: ${plural(list.length, "picture")}`),
            h("div", { class: "controls" },
              labelled("show", choice(outcomes, outcome, (value) => change({ outcome: value }))),
              row || column ? h("button", { type: "button", class: "small", onclick: () => change({ true: null, predicted: null, outcome: null }) }, "every class") : null),
            otherEpoch,
            list.length ? gallery(page, list, (item) => change({ item })) : nothing("none"));
    matrix?.choose(row || column ? { row: row ? classes().indexOf(row) : undefined, column: column ? classes().indexOf(column) : undefined } : null);
  };

  const drawViewer = () => {
    const item = params.text("item");
    if (!item) return viewer.hide();
    const list = chosenItems();
    void viewer.show(item, list.some((one) => one[0] === item) ? list : items, {
      run, move: (next) => {
        params = params.with({ item: next });
        amend({ item: next });
        drawViewer();
      }, close: () => params.text("item") && change({ item: null }) });
  };

  const drawHead = (facts: RunFacts, scores: Scores | null) => {
    const { study } = page;
    const row = rowOf(study, run);
    const names: [string, string][] = study.runs.filter((one) => one.epochs > 0).map((one) => [one.run, one.run]);
    const metric = scores?.scores[study.metric];
    const finding = facts.diagnosis?.findings[0]?.evidence ?? (facts.epochs ? "" : "no epoch is finished yet");
    const score = metric ? `${study.spoken_metric} ${decimal(metric.value)}${metric.interval ? ` (95 % interval ${interval(metric.interval[0], metric.interval[1])})` : ""}`
                         : row && scoreOf(study, row) !== null ? `${study.spoken_metric} ${decimal(scoreOf(study, row))} ${row.state === "unverified" ? "as it claims" : "so far"}` : "";
    replace(heading, h("div", { class: "controls" }, row ? mark(study, row.candidate) : null,
                       choice(names.some(([name]) => name === run) ? names : [[run, run], ...names], run, (value) => change({ run: value, item: null, epoch: null }))),
            h("h1", {}, score || run),
            h("p", { class: "evidence" }, [finding, `${facts.spoken_state}${facts.reason ? `: ${facts.reason}` : ""}, ${facts.epochs} of ${plural(facts.planned_epochs, "epoch")}`
              + (facts.best_epoch ? `, best at ${facts.best_epoch}` : ""), facts.parameters ? `${count(facts.trainable_parameters)} of ${count(facts.parameters)} parameters trained${facts.seconds === null ? "" : ` in ${seconds(facts.seconds)}`}` : ""]
              .filter(Boolean).join("; ") + "."),
            ...facts.warnings.slice(0, 3).map((one) => h("p", { class: "failure" }, `epoch ${one.epoch}: ${one.message}`)));
  };

  const drawClasses = (rows: ClassRow[]) => {
    const number = (key: keyof ClassRow, head: string, title: string, digits = 3) => ({
      key, head, title, numeric: true, value: (row: ClassRow) => row[key] as number | null,
      cell: (row: ClassRow) => (digits ? decimal(row[key] as number | null, digits) : String(row[key])) });
    const table = new DataTable<ClassRow>({
      caption: "classes", id: (row) => row.class, filename: `${run}-classes`, hidden: params.list("hide"), onHide: (hide) => change({ hide }), sort: params.text("classes", rows.length > 20 ? "recall" : ""), most: 40,
      columns: [
        { key: "class", head: "class", value: (row) => row.class },
        number("support", "items", "items of the class", 0),
        number("recall", "recall", "of the items of the class, the share that is right"),
        { key: "recall_interval", head: "95 % interval", value: (row) => (row.recall_interval ? interval(...row.recall_interval) : "") },
        number("precision", "precision", "of what is called this class, the share that is"),
        number("f1", "F1", "harmonic mean of precision and recall"),
        number("roc_auc", "ROC AUC", "area under the ROC curve"),
        number("average_precision", "AP", "average precision"),
      ],
      onSort: (sort) => change({ classes: sort }),
      onSelect: (row) => pick({ row: classes().indexOf(row.class) }),
    });
    table.setRows(rows);
    replace(classBox, h("h2", {}, "Classes"), table.element);
  };

  const drawScores = (scores: Scores): HTMLElement => {
    const table = new DataTable<[string, Scores["scores"][string]]>({
      caption: "scores", id: ([name]) => name, filename: `${run}-scores`,
      columns: [
        { key: "score", head: "score", value: ([name]) => name.replace(/_/g, " ") },
        { key: "value", head: "value", numeric: true, value: ([, one]) => one.value, cell: ([, one]) => decimal(one.value) },
        { key: "interval", head: "95 % interval", value: ([, one]) => (one.interval ? interval(...one.interval) : "") },
        { key: "majority", head: "majority class", numeric: true, value: ([, one]) => one.majority, cell: ([, one]) => decimal(one.majority) },
        { key: "random", head: "random", numeric: true, value: ([, one]) => one.random, cell: ([, one]) => decimal(one.random) },
      ],
    });
    table.setRows(Object.entries(scores.scores));
    return h("section", {}, h("h2", {}, "Scores"), table.element);
  };

  const drawMatrix = () => {
    if (!matrix || !matrixBox.contains(matrix.element)) {
      matrix?.close();
      matrix = new MatrixView({ title: `${run}: confusion matrix of the validation part`, classes: classes(),
        describe: (r, c, value) => `${count(value)} ${classes()[r]} predicted as ${classes()[c]}`, onPick: pick });
      const shares: [string, string][] = [["counts", "counts"], ["true", "% of true class"], ["predicted", "% of predicted class"]];
      replace(matrixBox, h("div", { class: "controls" },
                labelled("cells", choice(shares, params.text("value", "counts"), (value) => change({ value: value === "counts" ? null : value }))),
                labelled("classes", choice([["name", "in order"], ["similarity", "by similarity"]], params.text("order", "name"), (value: string) => change({ order: (value as Order) === "name" ? null : value })))),
              matrix.element, h("div", { class: "film" }, play, slider, epochText));
    }
    drawFrame();
  };

  // The frames that are not here yet: at first the one that is shown, then all others.
  const loadFilm = async (mine: string) => {
    const have = matrices?.epochs ?? [];
    const row = rowOf(page.study, mine);
    if (!have.length && !isReport && classes().length > 40 && row && row.epochs > 1) {
      const at = String(params.number("epoch", row.best_epoch ?? row.epochs));
      const first = await ask<Matrices>("matrices", { run: mine, from: at, to: at });
      if (mine !== run) return;
      matrices = first;
      drawMatrix();
      matrices = { ...first, epochs: [] };
    }
    const done = matrices?.epochs.length ?? 0;
    const last = done ? matrices!.epochs[done - 1]!.epoch : 0;
    const rest = await ask<Matrices>("matrices", done ? { run: mine, from: String(last + 1) } : { run: mine });
    if (mine !== run) return;
    if (!done) {
      frames = new Map();
      order = null;
    }
    matrices = { ...rest, epochs: [...(done ? matrices!.epochs : []), ...rest.epochs] };
  };

  const draw = async () => {
    const mine = run;
    const still = () => mine === run;
    try {
      const row = rowOf(page.study, run);
      const [facts] = await Promise.all([ask<RunFacts>("run", { run }), loadFilm(mine)]);
      if (!still()) return;
      drawHead(facts, null);
      if (!matrices?.epochs.some((one) => one.cells.length)) {
        replace(matrixBox, nothing(row?.epochs ? "Its epochs came without counts: there is no confusion matrix." : "The confusion matrix stands here after the first epoch."));
        matrix = null;
      } else {
        drawMatrix();
      }
      if (row?.state !== "finished") {
        items = bestItems = [];
        replace(classBox, nothing(row?.state === "unverified" ? "This run came from elsewhere without predictions: its scores are what it claims, and there are no pictures to show."
          : "Classes, scores and pictures stand here when the run is finished."));
        replace(pictureBox);
        replace(below);
      } else {
        if (!classBox.hasChildNodes()) replace(classBox, loading("its predictions"));
        const [list, table, scores] = await Promise.all([ask<{ items: Item[]; all: number }>("items", { run }), ask<{ classes: ClassRow[] }>("classes", { run }), ask<Scores>("scores", { run })]);
        if (!still()) return;
        bestItems = items = list.items;
        otherEpoch.textContent = "";
        drawHead(facts, scores);
        drawClasses(table.classes);
        drawPictures();
        tellPictures();
        drawViewer();
        replace(below, drawScores(scores));
      }
      await layers.show(mine, params.text("layers"));
      if (!still()) return;
      below.append(layers.element);
      below.querySelector(".plan")?.remove();
      below.append(h("details", { class: "plan" }, h("summary", {}, "the plan that trains this run alone"), h("pre", {}, facts.plan || "not recorded")));
    } catch (error) {
      if (still()) replace(heading, h("h1", {}, run), failure(error));
    }
  };

  return {
    show(to) {
      const before = params;
      params = to;
      const best = bestRun(page.study);
      const wanted = params.text("run") || best?.run || "";
      if (!wanted) return replace(heading, h("h1", {}, "No run has an epoch yet"));
      if (wanted !== run) {
        stop();
        run = wanted;
        items = bestItems = [];
        matrices = null;
        frames = new Map();
        order = null;
        matrix?.close();
        matrix = null;
        for (const box of [matrixBox, classBox, pictureBox, below]) replace(box);
        replace(heading, h("h1", {}, run), loading("the run"));
        return draw();
      }
      const redrawAll = ["value", "order", "layers", "classes", "hide"].some((name) => before.text(name) !== params.text(name));
      if (redrawAll) void draw();
      drawFrame();
      drawPictures();
      tellPictures();
      drawViewer();
    },
    news(news: News | null) {
      if (!news) {
        matrices = null;
        layers.forget();
      }
      if (!news || news.runs.some((one) => one.run === run)) void draw();
    },
    close() {
      stop();
      matrix?.close();
      layers.close();
      viewer.remove();
    },
  };
}

