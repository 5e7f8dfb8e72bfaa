// The page: an index of its views, the study's state, and one view at a time.
import { ask, follow, isReport, News, reportLeftOut, reportWritten, Study } from "./data";
import { addressOf, here } from "./address";
import { h, replace, failure, loading } from "./dom";
import { MakeView, Page, View } from "./page";
import { setTheme, startTheme, theme } from "./colours";
import { plural, seconds } from "./format";
import { studyView } from "./views/study";
import { curvesView } from "./views/curves";
import { runView } from "./views/run";
import { compareView } from "./views/compare";
import { labelsView } from "./views/labels";
import { thresholdsView } from "./views/thresholds";
import { imagesView } from "./views/images";
import { networkView } from "./views/network";
import { tryView } from "./views/try";

interface Entry { name: string; text: string; make: MakeView }
const entries: Entry[] = [
  { name: "study", text: "Study", make: studyView },
  { name: "curves", text: "Curves", make: curvesView },
  { name: "run", text: "One run", make: runView },
  { name: "compare", text: "Two candidates", make: compareView },
  { name: "labels", text: "Labels", make: labelsView },
  { name: "thresholds", text: "Thresholds", make: thresholdsView },
  { name: "images", text: "Images", make: imagesView },
  { name: "network", text: "Network", make: networkView },
  { name: "try", text: "Try it", make: tryView },
];

const index = h("nav", { "aria-label": "views" });
const state = h("div", { class: "state", role: "status" });
const main = h("main", { id: "main", tabindex: -1 });
let page: Page | null = null;
let current: { name: string; view: View } | null = null;

function drawIndex(): void {
  const at = here().view;
  replace(index, h("ol", {}, ...entries.map((entry) =>
    h("li", {}, h("a", { href: addressOf(entry.name), "aria-current": entry.name === at ? "page" : null }, entry.text)))));
}

function drawState(reason = ""): void {
  if (!page) return;
  const { study, connection } = page;
  const { progress } = study;
  const words = connection === "report" ? `report of ${reportWritten}${reportLeftOut ? `, without ${plural(reportLeftOut, "detail")} that it has no room for` : ""}` : connection === "lost" ? reason || "no connection"
    : progress.in_training ? `${plural(progress.in_training, "run")} in training${progress.seconds_left !== null ? `, ${seconds(progress.seconds_left)} left` : ""}`
    : progress.open ? `${plural(progress.open, "run")} open` : "all runs are over";
  const light = `light ${connection}${progress.in_training ? " training" : ""}`;
  if (state.textContent === words && state.firstElementChild?.className === light) return;
  replace(state, h("span", { class: light, "aria-hidden": "true" }), words);
}

function show(): void {
  if (!page) return;
  const { view, params } = here();
  const entry = entries.find((one) => one.name === view);
  drawIndex();
  if (!entry) {
    current?.view.close?.();
    current = null;
    replace(main, h("h1", {}, "There is no such view"), h("p", {}, h("a", { href: addressOf("study") }, "to the study")));
    return;
  }
  if (current?.name !== view) {
    current?.view.close?.();
    main.replaceChildren();
    main.className = `view-${view}`;
    current = { name: view, view: entry.make(main, page) };
    window.scrollTo(0, 0);
  }
  document.title = `${page.study.study} – ${entry.text}`;
  void Promise.resolve(current.view.show(params)).catch((error) => replace(main, failure(error)));
}

async function load(): Promise<void> {
  // What the first view asks next is computed beside it.
  if (!page && here().view === "study") void ask("choice", here().params.text("cost") ? { cost: here().params.text("cost") } : {}).catch(() => undefined);
  const study = await ask<Study>("study");
  if (page) page.study = study;
  else page = { study, connection: isReport ? "report" : "live" };
}

function frame(): void {
  const themeButton = h("button", { type: "button", class: "small", onclick: () => {
    setTheme(theme() === "dark" ? "light" : "dark");
    redraw();
  } }, "light / dark");
  replace(document.body, h("a", { class: "skip", href: "#main", onclick: (event: Event) => {
    event.preventDefault();
    main.focus();
  } }, "to the content"),
    h("div", { class: "page" }, h("header", { class: "margin" }, h("p", { class: "title" }, page?.study.study ?? ""), index, state, themeButton), main));
}

// All of it in the other colours.
function redraw(): void {
  if (!page) return;
  current?.view.close?.();
  current = null;
  show();
}

function merge(news: News): void {
  if (!page) return;
  const rows = new Map(page.study.runs.map((row) => [row.run, row]));
  for (const row of news.runs) {
    if (!rows.has(row.run)) return void load().then(() => current?.view.news?.(null));
    rows.set(row.run, row);
  }
  page.study = { ...page.study, runs: [...rows.values()], progress: news.progress, warnings: [...page.study.warnings, ...news.warnings] };
  drawState();
  current?.view.news?.(news);
}

async function start(): Promise<void> {
  startTheme(redraw);
  replace(document.body, h("div", { class: "page" }, h("main", {}, loading("the study"))));
  try {
    await load();
  } catch (error) {
    replace(document.body, h("main", {}, h("h1", {}, "The study cannot be shown"), failure(error)));
    return;
  }
  frame();
  drawState();
  show();
  window.addEventListener("hashchange", show);
  follow({
    state() {
      void load().then(() => {
        drawState();
        current?.view.news?.(null);
      }).catch(() => undefined);
    },
    news: merge,
    connection(to, reason) {
      if (!page) return;
      page.connection = to;
      drawState(reason);
    },
  });
}

void start();
