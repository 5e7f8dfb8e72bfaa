// Answers of the server, or of the report that this page is.

export interface RunRow {
  run: string; candidate: string; seed: number; fold: number; regime: string; state: string; reason: string; external: string | null;
  epochs: number; planned_epochs: number; best_epoch: number | null; seconds: number | null;
  parameters: number; trainable_parameters: number; multiplications: number; image_set: number; image_set_version: number; tags: string[]; note: string;
  accuracy: number | null; balanced_accuracy: number | null; macro_f1: number | null; loss: number | null;
}
export interface Progress { image_set: number; open: number; in_training: number; seconds_left: number | null; fraction: number }
export interface Warning { run: string; epoch: number; message: string }
export interface CandidateMark { candidate: string; letter: string; colour: string }
export type Metric = "accuracy" | "balanced_accuracy" | "macro_f1";
export interface Study {
  study: string; metric: Metric; spoken_metric: string; margin: number; classes: string[]; image_set_version: number;
  candidates: CandidateMark[]; runs: RunRow[]; parts: { [part: string]: number }; progress: Progress;
  warnings: Warning[]; test_looks: number; test_look_line: string;
}
export interface News { revision: number; runs: RunRow[]; warnings: Warning[]; progress: Progress }
export interface Curve { run: string; columns: { [name: string]: (number | null)[] } }

interface Report { written: string; left_out: number; answers: { [question: string]: unknown }; refusals: { [question: string]: string }; pictures: { [item: string]: string } }

const report: Report | null = (() => {
  const element = document.getElementById("report");
  return element ? JSON.parse(element.textContent ?? "null") as Report : null;
})();
const token = document.querySelector<HTMLMetaElement>("meta[name=jevrin-token]")?.content ?? "";

// A report explores the same way, and changes nothing.
export const isReport = report !== null;
export const reportWritten = report?.written ?? "";
export const reportLeftOut = report?.left_out ?? 0;

type Parameters = { [name: string]: string };

function questionOf(view: string, parameters: Parameters): string {
  const query = Object.keys(parameters).sort()
    .map((name) => `${encodeURIComponent(name)}=${encodeURIComponent(parameters[name]!)}`).join("&");
  return query ? `${view}?${query}` : view;
}

const known = new Map<string, Promise<unknown>>();
const mostKnown = 200;

// What the server said of this before counts until something changes (forget()).
export function ask<T>(view: string, parameters: Parameters = {}): Promise<T> {
  const question = questionOf(view, parameters);
  let answer = known.get(question);
  if (!answer) {
    answer = report ? fromReport(report, question) : fetchJson(`api/${question}`);
    answer.catch(() => known.delete(question));
    if (known.size >= mostKnown) known.delete(known.keys().next().value!);
    known.set(question, answer);
  }
  return answer as Promise<T>;
}

// The same, asked now, for what changes without the ledger.
export function askAnew<T>(view: string): Promise<T> {
  known.delete(questionOf(view, {}));
  return ask<T>(view);
}

async function fromReport(from: Report, question: string): Promise<unknown> {
  const refusal = from.refusals[question];
  if (refusal !== undefined) throw new Error(refusal);
  if (!(question in from.answers)) throw new Error("this report does not hold that; the live page shows it");
  return from.answers[question];
}

// The oldest state of the ledger that an answer was of, since all were asked anew.
let answeredRevision = Infinity;

async function fetchJson(address: string, init?: RequestInit): Promise<unknown> {
  let response: Response;
  try {
    response = await fetch(address, init);
  } catch {
    throw new Error("the server does not answer; is it still running?");
  }
  answeredRevision = Math.min(answeredRevision, Number(response.headers.get("x-jevrin-revision") ?? Infinity));
  const type = response.headers.get("content-type") ?? "";
  const body: any = type.includes("json") ? await response.json() : await response.text();
  if (!response.ok) throw new Error(typeof body === "string" ? body : body.error ?? response.statusText);
  return body;
}

// Something changed: answers about these runs, or about anything but a finished run, are asked anew.
export function forget(runs: string[] | null = null): void {
  for (const question of [...known.keys()]) {
    const query = new URLSearchParams(question.split("?")[1] ?? "");
    const run = query.get("run");
    if (runs === null || run === null || runs.includes(run)) known.delete(question);
  }
}

// Changes something in the ledger.
export async function change<T>(action: string, body: unknown): Promise<T> {
  const result = await fetchJson(`api/${action}`, {
    method: "POST",
    headers: { "Content-Type": "application/json", "X-Jevrin-Token": token },
    body: JSON.stringify(body),
  });
  return result as T;
}

export async function sendImage<T>(address: string, image: Blob): Promise<T> {
  return await fetchJson(address, { method: "POST", headers: { "X-Jevrin-Token": token }, body: image }) as T;
}

// Curves by run, all of them in one answer.
export async function curvesOf(runs: string[]): Promise<Curve[]> {
  if (!runs.length) return [];
  if (report) {
    const all = await ask<{ runs: Curve[] }>("curves");
    return all.runs.filter((one) => runs.includes(one.run));
  }
  return (await fetchJson(`api/${questionOf("curves", { runs: JSON.stringify(runs) })}`) as { runs: Curve[] }).runs;
}

// The address of an item's picture; in a report one that stands in it, or nothing.
export function picture(item: string, side: number): string | null {
  if (report) return report.pictures[item] ?? null;
  return `api/picture?item=${encodeURIComponent(item)}&side=${side}`;
}

export type Connection = "live" | "lost" | "report";
export interface Listener {
  state(): void;
  news(news: News): void;
  connection(state: Connection, reason: string): void;
}

// Tells what happens in the ledger while the page can be seen; a page that was away asks for all anew.
export function follow(listener: Listener): void {
  if (report) {
    listener.connection("report", "");
    return;
  }
  let source: EventSource | null = null;
  const open = () => {
    if (source || document.hidden) return;
    source = new EventSource("api/events");
    source.addEventListener("state", (event) => {
      const { revision } = JSON.parse((event as MessageEvent<string>).data) as { revision: number };
      listener.connection("live", "");
      if (revision === answeredRevision) return;  // nothing has happened since
      forget();
      answeredRevision = Infinity;
      listener.state();
    });
    source.addEventListener("news", (event) => {
      const news = JSON.parse((event as MessageEvent<string>).data) as News;
      forget(news.runs.map((run) => run.run));
      listener.news(news);
    });
    source.addEventListener("lost", (event) => {
      listener.connection("lost", (JSON.parse((event as MessageEvent<string>).data) as { reason: string }).reason);
    });
    source.addEventListener("error", () => {
      listener.connection("lost", "the server does not answer; what is shown may be out of date");
      if (source?.readyState === EventSource.CLOSED) {
        source = null;
        setTimeout(open, 2000);
      }
    });
  };
  const close = () => {
    source?.close();
    source = null;
  };
  document.addEventListener("visibilitychange", () => (document.hidden ? close() : open()));
  open();
}
