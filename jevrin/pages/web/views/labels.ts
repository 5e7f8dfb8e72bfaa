// Labels: suspects, one by one, what is marked, and images that users of a model sent back. Keys: x exclude,
// 1 to 9 a class, Enter the proposal, Delete takes a mark away.
import { ask, askAnew, change as send, forget, isReport } from "../data";
import { Page, View } from "../page";
import { amend, change, Params } from "../address";
import { DataTable, Column } from "../table";
import { Item, ItemDetail, Viewer, thumbnail } from "../pictures";
import { h, replace, failure, loading, choice, labelled, nothing } from "../dom";
import { decimal, pathOf, plural } from "../format";

type Suspect = [string, number, number, number, number];  // id, label, proposed, probabilities of both
interface Suspects { source: string; judged: number; all: number; suspects: Suspect[] }
interface Mark { item: string; label: number; proposed: string; excluded: boolean; note: string; marked: string }

interface Received {
  number: number; name: string; label: string | null; note: string; model: string; version: number; predicted: string;
  probability: number; sender: string; received: string; review: "waiting" | "accepted" | "rejected"; file: string;
}
const noClass = "none of the classes";

export function labelsView(main: HTMLElement, page: Page): View {
  const heading = h("header");
  const suspectBox = h("section");
  const markBox = h("section");
  const receivedBox = h("section");
  main.append(heading, receivedBox, h("div", { class: "two wide-left" }, suspectBox, markBox));
  const viewer = new Viewer(page);
  let params = new Params();
  let suspects: Suspects | null = null;
  let marks = new Map<string, Mark>();
  let table: DataTable<Suspect> | null = null;
  let asked = 0;

  const { classes } = page.study;
  const markText = (item: string) => {
    const mark = marks.get(item);
    return !mark ? "" : mark.excluded ? "exclude" : mark.proposed || "to look at";
  };

  const loadMarks = async () => {
    const answer = await ask<{ marks: Mark[] }>("marks");
    marks = new Map(answer.marks.map((one) => [one.item, one]));
  };

  const save = async (action: "mark" | "unmark", body: { item: string; label?: string; excluded?: boolean; note?: string }) => {
    try {
      await send(action, body);
      forget();
      await loadMarks();
      draw();
      drawViewer();
    } catch (error) {
      markBox.prepend(failure(error));
    }
  };

  // Asked anew each time: what the service takes in is not among the ledger's changes.
  const showReceived = async () => {
    if (isReport) return;
    const { images } = await askAnew<{ images: Received[] }>("received");
    if (images.length) replace(receivedBox, ...receivedImages(images));
  };

  const review = async (action: "accept" | "reject", body: { number: number; label?: string | null }) => {
    try {
      await send(action, body);
      await showReceived();
    } catch (error) {
      receivedBox.prepend(failure(error));
    }
  };

  const reviewButtons = (one: Received): HTMLElement => {
    if (one.file) return h("span", { class: "quiet" }, "in the image set");
    const others = [...classes.filter((name) => name !== one.label).map((name) => [name, name] as [string, string]), ...(one.label === null ? [] : [["\n", noClass] as [string, string]])];
    const accept = h("button", { type: "button", onclick: () => void review("accept", { number: one.number }) }, one.review === "accepted" ? "accepted" : "accept");
    const reject = h("button", { type: "button", onclick: () => void review("reject", { number: one.number }) }, one.review === "rejected" ? "rejected" : "reject");
    accept.disabled = one.review === "accepted";
    reject.disabled = one.review === "rejected";
    return h("div", { class: "controls" }, accept, reject,
             choice([["", "it is something else"], ...others], "", (value) => value && void review("accept", { number: one.number, label: value === "\n" ? null : value })));
  };

  const receivedImages = (images: Received[]): HTMLElement[] => {
    const waiting = images.filter((one) => one.review === "waiting").length;
    const table = new DataTable<Received>({ caption: "images that were sent back", id: (row) => String(row.number), filename: "received", most: 8, onSelect: () => undefined,
      columns: [
        { key: "picture", head: "", value: () => null, cell: (row) => h("img", { src: `api/picture?received=${row.number}&side=176`, alt: row.name, loading: "lazy", width: 88 }) },
        { key: "label", head: "sent as", value: (row) => row.label ?? noClass },
        { key: "predicted", head: "predicted", value: (row) => row.predicted },
        { key: "probability", head: "probability", numeric: true, value: (row) => row.probability, cell: (row) => decimal(row.probability) },
        { key: "model", head: "model", value: (row) => `${row.model} ${row.version}` },
        { key: "sender", head: "by", value: (row) => row.sender },
        { key: "note", head: "note", value: (row) => row.note },
        { key: "review", head: "review", value: (row) => row.review, cell: reviewButtons },
        { key: "name", head: "image", value: (row) => row.name },
      ] });
    table.setRows([...images].sort((a, b) => Number(a.review !== "waiting") - Number(b.review !== "waiting") || a.number - b.number));
    return [h("h2", {}, `${plural(images.length, "image")} sent back, ${waiting} to review`),
            h("p", { class: "quiet" }, "Users of a model in service contradicted its answer. 'jevrin marks received --into DIR' writes the accepted images into the image set."), table.element];
  };

  const noteOf = (item: string) => marks.get(item)?.note ?? "";
  const actions = (item: string, label: number, proposed: number | null): HTMLElement => {
    const set = (to: { label?: string; excluded?: boolean }) => void save("mark", { item, note: noteOf(item), ...to });
    const mark = marks.get(item);
    const note = h("input", { type: "text", value: noteOf(item), placeholder: "note", "aria-label": "note", maxlength: 500 });
    note.addEventListener("change", () => void save("mark", { item, label: mark?.proposed ?? "", excluded: mark?.excluded ?? false, note: note.value }));
    const others = classes.map((name, i) => [name, i < 9 ? `${name} (${i + 1})` : name] as [string, string]).filter(([name]) => name !== classes[label]);
    return h("div", { class: "controls" },
             proposed !== null ? h("button", { type: "button", onclick: () => set({ label: classes[proposed]! }), title: "Enter" }, `it is ${classes[proposed]}`) : null,
             choice([["", "another label"], ...others], "", (value) => value && set({ label: value })),
             h("button", { type: "button", onclick: () => set({ excluded: true }), title: "x" }, "exclude"),
             note, mark ? h("button", { type: "button", onclick: () => void save("unmark", { item }), title: "Delete" }, "remove the mark") : null);
  };

  const onKey = (event: KeyboardEvent, item: string) => {
    if (isReport || (event.target as Element).closest("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey) return;
    const suspect = suspects?.suspects.find((one) => one[0] === item);
    const number = Number(event.key);
    if (event.key === "x") void save("mark", { item, excluded: true, note: noteOf(item) });
    else if (event.key === "Enter" && suspect && !(event.target as Element).closest("button")) void save("mark", { item, label: classes[suspect[2]]!, note: noteOf(item) });
    else if (number >= 1 && number <= 9 && classes[number - 1]) void save("mark", { item, label: classes[number - 1]!, note: noteOf(item) });
    else if (event.key === "Delete" && marks.has(item)) void save("unmark", { item });
    else return;
    event.preventDefault();
  };

  const drawViewer = () => {
    const item = params.text("item");
    if (!item) return viewer.hide();
    const list = (table?.visible() ?? []).map(([id, label, proposed, a, b]) => [id, label, proposed, b, a] as Item);
    void viewer.show(item, list, {
      run: null,
      move: (next) => {
        params = params.with({ item: next });
        amend({ item: next });
        drawViewer();
      },
      close: () => params.text("item") && change({ item: null }),
      key: (event) => onKey(event, params.text("item")),
      extra: (detail: ItemDetail) => {
        const suspect = suspects?.suspects.find((one) => one[0] === detail.item);
        return h("div", {}, suspect ? h("p", {}, `predicted ${classes[suspect[2]]} with probability ${decimal(suspect[4])}; that of its label is ${decimal(suspect[3])}`) : null,
                 isReport ? null : actions(detail.item, detail.label, suspect ? suspect[2] : null),
                 isReport ? null : h("p", { class: "quiet small" }, "keys: Enter takes the proposal, 1 to 9 a class, x excludes, Delete removes the mark; arrows go on"));
      },
    });
  };

  const draw = () => {
    const list = suspects?.suspects ?? [];
    const open = list.filter((one) => !marks.has(one[0])).length;
    replace(heading, h("h1", {}, suspects ? (suspects.all ? `${plural(suspects.all, "label")} of ${suspects.judged} may be wrong${open < list.length ? `, ${open} not marked yet` : ""}` : "No label is suspect") : "Labels"),
            suspects ? h("p", { class: "quiet" }, `judged by ${suspects.source}`) : null,
            h("div", { class: "controls" }, labelled("judged by", choice([["features", "features of a frozen run"], ["recorded", "recorded predictions"]], params.text("source", "features"), (value) => change({ source: value === "features" ? null : value })))));
    if (suspects) {
      const columns: Column<Suspect>[] = [
        { key: "picture", head: "", value: () => null, cell: ([id, label]) => thumbnail(id, 44, classes[label]!) },
        { key: "label", head: "label", value: (row) => classes[row[1]]! },
        { key: "proposed", head: "predicted", value: (row) => classes[row[2]]! },
        { key: "probability", head: "probability", numeric: true, value: (row) => row[4], cell: (row) => decimal(row[4]) },
        { key: "of_label", head: "P(label)", title: "the probability of its label", numeric: true, value: (row) => row[3], cell: (row) => decimal(row[3]) },
        { key: "mark", head: "mark", value: (row) => markText(row[0]) },
        { key: "item", head: "item", value: (row) => pathOf(row[0]) },
      ];
      if (!table) {
        table = new DataTable<Suspect>({ columns, caption: "suspect labels, the most suspect first", id: (row) => row[0], filename: "suspects", most: 60, sort: params.text("sort"),
          filter: params.text("filter"), onSort: (sort) => change({ sort }), onFilter: (filter) => amend({ filter }), onSelect: (row) => change({ item: row[0] }) });
        table.element.addEventListener("keydown", (event) => {
          const row = (event.target as Element).closest<HTMLElement>("tr[data-id]");
          if (row && event.key !== "Enter") onKey(event, row.dataset.id!);
        });
        replace(suspectBox, h("h2", {}, "Suspects"), table.element);
      }
      table.setRows(list);
    }
    const all = [...marks.values()];
    const marked = new DataTable<Mark>({ caption: "marks", id: (row) => row.item, filename: "marks", most: 100, onSelect: (row) => change({ item: row.item }),
      columns: [
        { key: "picture", head: "", value: () => null, cell: (row) => thumbnail(row.item, 44, classes[row.label] ?? "") },
        { key: "label", head: "label", value: (row) => classes[row.label] ?? "" },
        { key: "proposed", head: "mark", value: (row) => (row.excluded ? "exclude" : row.proposed || "to look at") },
        { key: "note", head: "note", value: (row) => row.note },
        { key: "item", head: "item", value: (row) => pathOf(row.item) },
      ] });
    marked.setRows(all);
    replace(markBox, h("h2", {}, plural(all.length, "mark")),
            all.length ? marked.element : nothing("Nothing is marked: open a picture to mark it."),
            isReport || !all.length ? null : h("p", {}, h("a", { href: "api/corrections", download: "corrections.csv" }, "corrections.csv"),
              h("span", { class: "quiet" }, " holds the marks that propose a label or to exclude; name it as 'corrections' in the plan")));
  };

  const load = async () => {
    const mine = ++asked;
    void showReceived().catch((error: unknown) => replace(receivedBox, failure(error)));
    try {
      if (!suspects) replace(suspectBox, loading("the labels; features of the training part may have to be computed"));
      await loadMarks();
      const source = params.text("source", "features");
      const answer = await ask<Suspects>("suspects", source === "features" ? {} : { source }).catch((error: unknown) => {
        if (mine === asked) replace(suspectBox, failure(error));
        return null;
      });
      if (mine !== asked) return;
      suspects = answer;
      draw();
      drawViewer();
    } catch (error) {
      if (mine === asked) replace(heading, h("h1", {}, "Labels"), failure(error));
    }
  };

  return {
    show(to) {
      const before = params;
      params = to;
      if (suspects && before.text("source") === params.text("source")) {
        if (table) table.sort = params.text("sort");
        return drawViewer();
      }
      suspects = null;
      table = null;
      return load();
    },
    news(news) {
      if (!news || news.runs.some((row) => row.state === "finished")) void load();
      else void loadMarks().then(draw).catch(() => undefined);
    },
    close() {
      viewer.remove();
    },
  };
}
