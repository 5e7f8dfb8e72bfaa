// What every view shares: the study as it is now, and how candidates are marked.
import { Connection, News, RunRow, Study } from "./data";
import { onPaper } from "./colours";
import { Params, addressOf } from "./address";
import { h } from "./dom";

export interface Page {
  study: Study;
  connection: Connection;
}

// One view on the page. show() is called for each address of it; news() when something happened in the study.
export interface View {
  show(params: Params): void | Promise<void>;
  news?(news: News | null): void;  // null: anything may have changed
  close?(): void;
}
export type MakeView = (main: HTMLElement, page: Page) => View;

export function rowOf(study: Study, run: string): RunRow | undefined {
  return study.runs.find((row) => row.run === run);
}

export function runsOf(study: Study, candidate: string): RunRow[] {
  return study.runs.filter((row) => row.candidate === candidate);
}

export function scoreOf(study: Study, row: RunRow): number | null {
  return row[study.metric];
}

// Whether a run saw the images of those that are compared; others saw another version of the image set.
export function isCompared(study: Study, row: RunRow): boolean {
  return row.image_set === study.progress.image_set;
}

// The run with the best score, of a candidate or of all; of those that are compared, as long as there are any.
export function bestRun(study: Study, candidate?: string): RunRow | undefined {
  let best: RunRow | undefined;
  const compared = study.runs.filter((row) => isCompared(study, row) && row.epochs > 0);
  for (const row of compared.length ? compared : study.runs) {
    if ((candidate !== undefined && row.candidate !== candidate) || row.state === "unverified") continue;
    const score = scoreOf(study, row);
    if (score !== null && (!best || score > scoreOf(study, best)!)) best = row;
    if (!best && row.epochs > 0 && score === null) best = row;
  }
  return best;
}

// Names of runs and candidates, as runs in the study's order.
export function runsCalled(study: Study, names: string[]): string[] {
  const wanted = new Set(names);
  return study.runs.filter((row) => wanted.has(row.run) || wanted.has(row.candidate)).map((row) => row.run);
}

export function colourOf(study: Study, candidate: string): string {
  return onPaper(study.candidates.find((one) => one.candidate === candidate)?.colour ?? "#777777");
}

export function letterOf(study: Study, candidate: string): string {
  return study.candidates.find((one) => one.candidate === candidate)?.letter ?? "?";
}

// The letter of a candidate on its colour.
export function mark(study: Study, candidate: string): HTMLElement {
  return h("span", { class: "mark", "--of": colourOf(study, candidate), "aria-hidden": "true" }, letterOf(study, candidate));
}

// Variants differ at their ends, so that long names are cut in the middle.
export function shortened(name: string, most = 36): string {
  const letters = [...name];
  if (letters.length <= most) return name;
  const end = Math.ceil(most * 0.6);
  return `${letters.slice(0, most - end - 1).join("")}…${letters.slice(-end).join("")}`;
}

// By what a run was trained, when it was not here.
function origin(row: RunRow | undefined): HTMLElement | null {
  return row && row.external !== null ? h("span", { class: "elsewhere", title: row.external ? `trained by ${row.external}` : "trained elsewhere" }, "elsewhere") : null;
}

export function candidateName(study: Study, candidate: string): HTMLElement {
  return h("span", { class: "named", title: candidate }, mark(study, candidate), " ", shortened(candidate), origin(runsOf(study, candidate)[0]));
}

export function runName(study: Study, run: string): HTMLElement {
  const row = rowOf(study, run);
  return h("span", { class: "named", title: run }, row ? mark(study, row.candidate) : null, " ", shortened(run), origin(row));
}

export function runLink(study: Study, run: string, more: { [name: string]: string } = {}): HTMLElement {
  return h("a", { href: addressOf("run", { run, ...more }), class: "plain" }, runName(study, run));
}
