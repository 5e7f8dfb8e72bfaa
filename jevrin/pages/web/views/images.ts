// Images: how many of each class, a random sample, what training makes of one, copies and conflicts.
import { ask, isReport } from "../data";
import { Page, View, bestRun } from "../page";
import { change, amend, Params } from "../address";
import { Viewer, Item, ItemDetail, thumbnail } from "../pictures";
import { DataTable } from "../table";
import { h, replace, failure, loading, choice, labelled, nothing } from "../dom";
import { count, pathOf, percent, plural } from "../format";

interface Sample { classes: { class: string; items: string[] }[] }
interface Pair { items: [string, string]; labels: [number, number] }
interface Spread { smallest: number; lower_quarter: number; median: number; upper_quarter: number; largest: number }
interface Facts { width: Spread; height: Spread; aspect: Spread; formats: { [name: string]: number }; channels: { grey: number; colour: number }; majority_accuracy: number }
interface Survey { facts: Facts; counts: number[]; copies: string[][]; near_duplicates: Pair[]; conflicts: Pair[] }
interface Prepared { run: string; size: string; fit: string; prepared: string; augments: boolean; versions: string[] }

export function imagesView(main: HTMLElement, page: Page): View {
  const heading = h("header");
  const sampleBox = h("section");
  const facts = h("section");
  const copies = h("section");
  main.append(heading, h("div", { class: "two" }, sampleBox, h("div", {}, facts, copies)));
  const viewer = new Viewer(page);
  let params = new Params();
  let sample: Sample | null = null;
  let survey: Survey | null = null;
  let drawn = "";
  const { classes } = page.study;

  const all = (): Item[] => (sample?.classes ?? []).flatMap((one, c) => one.items.map((id) => [id, c, c, 1, 1] as Item));

  // The run whose preparation is shown: the one named, or the best that is there.
  const run = () => params.text("run") || bestRun(page.study)?.run || "";

  const drawViewer = () => {
    const item = params.text("item");
    if (!item) return viewer.hide();
    void viewer.show(item, all(), { run: run(), move: (next) => {
      params = params.with({ item: next });
      amend({ item: next });
      drawViewer();
    }, close: () => params.text("item") && change({ item: null }),
      extra: (detail: ItemDetail) => {
        const box = h("div", {}, h("p", { class: "quiet", role: "status" }, "preparing …"));
        if (isReport || !run()) return null;
        void ask<Prepared>("prepared", { run: run(), item: detail.item, versions: "6" }).then((answer) => {
          const picture = (source: string, text: string) => h("li", {}, h("span", { class: "picture" }, h("img", { src: source, alt: text, width: 84, height: 84, class: "pixels" }), h("span", { class: "said" }, text)));
          replace(box, h("h3", {}, `as ${answer.run} sees it: ${answer.size}, ${answer.fit}`),
                  h("ul", { class: "gallery" }, picture(answer.prepared, "prepared"), ...answer.versions.map((one, i) => picture(one, `epoch ${i + 1}`))),
                  answer.augments ? null : h("p", { class: "quiet small" }, "this run does not augment"));
        }).catch((error: unknown) => replace(box, failure(error)));
        return box;
      } });
  };

  const drawSample = () => {
    const chosen = params.text("class");
    const runs: [string, string][] = page.study.runs.filter((row) => row.epochs > 0).map((row) => [row.run, row.run]);
    replace(sampleBox, h("h2", {}, "A random sample"),
            h("div", { class: "controls" },
              labelled("class", choice([["", "every class"], ...classes.map((name) => [name, name] as [string, string])], chosen, (value) => change({ class: value }))),
              isReport ? null : h("button", { type: "button", class: "small", onclick: () => change({ seed: params.number("seed", 1) + 1 }) }, "another sample"),
              runs.length ? labelled("prepared as by", choice(runs, run(), (value) => change({ run: value }))) : null),
            ...(sample?.classes ?? []).map((one, c) => (chosen && one.class !== chosen ? null : h("section", { class: "sample-row" },
              h("h3", {}, one.class, h("span", { class: "quiet" }, survey ? ` ${count(survey.counts[c] ?? 0)}` : "")),
              h("ul", { class: "gallery" }, ...one.items.map((id) => h("li", {}, h("button", { type: "button", class: "picture", title: pathOf(id), "data-item": id, onclick: () => change({ item: id }) }, thumbnail(id, 64, one.class)))))))));
  };

  const drawSurvey = () => {
    if (!survey) return;
    const total = survey.counts.reduce((a, b) => a + b, 0);
    const most = Math.max(1, ...survey.counts);
    const rows = survey.counts.map((items, c) => ({ name: classes[c] ?? "?", items }));
    const table = new DataTable<{ name: string; items: number }>({ caption: "items by class", id: (row) => row.name, filename: "classes", most: 40, sort: params.text("sort"), onSort: (sort) => change({ sort }),
      onSelect: (row) => change({ class: params.text("class") === row.name ? null : row.name }),
      columns: [
        { key: "class", head: "class", value: (row) => row.name },
        { key: "items", head: "images", numeric: true, value: (row) => row.items },
        { key: "share", head: "share", numeric: true, value: (row) => row.items / total, cell: (row) => percent(row.items / total) },
        { key: "bar", head: "", value: () => null, cell: (row) => h("span", { class: "bar right", "--share": `${(100 * row.items) / most}%` }) },
      ] });
    table.setRows(rows);
    const rare = rows.reduce((a, b) => (b.items < a.items ? b : a));
    const common = rows.reduce((a, b) => (b.items > a.items ? b : a));
    const ratio = common.items / Math.max(1, rare.items);
    replace(heading, h("h1", {}, `${count(total)} images in ${plural(classes.length, "class", "classes")}${ratio >= 1.5 ? `; ${common.name} has ${ratio.toFixed(1)} times as many as ${rare.name}` : ", balanced"}`),
            h("p", { class: "quiet" }, "training and validation parts; the test part stays sealed"));
    const { width, height, formats, channels } = survey.facts;
    const sides = (spread: Spread) => (spread.smallest === spread.largest ? `${spread.median}` : `${spread.smallest} to ${spread.largest} (half of them ${spread.lower_quarter} to ${spread.upper_quarter})`);
    replace(facts, h("h2", {}, "Classes"), table.element,
      h("p", {}, `${sides(width)} pixels wide, ${sides(height)} high; ${Object.entries(formats).map(([name, number]) => `${count(number)} ${name}`).join(", ")}; `
        + `${count(channels.colour)} in colour, ${count(channels.grey)} grey. Always saying ${common.name} has an accuracy of ${survey.facts.majority_accuracy.toFixed(3)}.`));
    const pair = (one: Pair) => h("li", { class: "pair" }, ...one.items.map((id, i) => h("button", { type: "button", class: "picture", title: pathOf(id), onclick: () => change({ item: id }) },
      thumbnail(id, 72, pathOf(id)), h("span", { class: "said" }, classes[one.labels[i]!] ?? "?"))));
    replace(copies,
            h("h2", {}, survey.conflicts.length ? `${plural(survey.conflicts.length, "pair")} of the same picture under two labels` : "No picture stands under two labels"),
            survey.conflicts.length ? h("ul", { class: "gallery" }, ...survey.conflicts.slice(0, 30).map(pair)) : null,
            h("h3", {}, survey.copies.length ? `${plural(survey.copies.length, "group")} of identical files` : "No identical files"),
            ...survey.copies.slice(0, 20).map((group) => h("ul", { class: "gallery" }, ...group.map((id) => h("li", {}, h("button", { type: "button", class: "picture", title: pathOf(id), onclick: () => change({ item: id }) }, thumbnail(id, 56, pathOf(id))))))),
            h("h3", {}, survey.near_duplicates.length ? `${plural(survey.near_duplicates.length, "pair")} of near-duplicates` : "No near-duplicates"),
            survey.near_duplicates.length ? h("ul", { class: "gallery" }, ...survey.near_duplicates.slice(0, 20).map(pair)) : null);
  };

  const draw = async () => {
    const seed = params.text("seed", "1");
    const mine = `${seed}`;
    drawn = mine;
    if (!sample) replace(sampleBox, loading("a sample"));
    if (!survey) {
      replace(heading, h("h1", {}, "Images"));
      replace(facts, loading("every image"));
    }
    try {
      sample = await ask<Sample>("sample", { seed, per_class: classes.length > 30 ? "4" : "8" });
      if (mine !== drawn) return;
      drawSample();
      drawViewer();
    } catch (error) {
      if (mine === drawn) replace(sampleBox, failure(error));
    }
    try {
      survey = await ask<Survey>("survey");
      if (mine !== drawn) return;
      drawSurvey();
      drawSample();
    } catch (error) {
      if (mine === drawn) replace(facts, failure(error), nothing("The images may be gone, or changed since they were trained on."));
    }
  };

  return {
    show(to) {
      params = to;
      if (sample && drawn === params.text("seed", "1")) {
        drawSample();
        drawSurvey();
        return drawViewer();
      }
      return draw();
    },
    news(news) {
      if (!news) void draw();
    },
    close() {
      viewer.remove();
    },
  };
}
