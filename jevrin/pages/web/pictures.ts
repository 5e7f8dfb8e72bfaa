// Pictures of items: a list of them, and one of them large with all that is known of it.
import { ask, isReport, picture } from "./data";
import { Page, mark, rowOf, runLink } from "./page";
import { addressOf } from "./address";
import { h, replace, failure } from "./dom";
import { decimal, pathOf, percent } from "./format";

// id, label, predicted, its probability, that of the label; both are known of the best epoch alone.
export type Item = [string, number, number, number | null, number | null];

export interface ItemDetail {
  item: string; label: number;
  runs: { run: string; predicted: number; probabilities: number[] }[];
  mark: { label: string; excluded: boolean; note: string } | null;
}

export function thumbnail(item: string, side: number, text: string): HTMLElement {
  const source = picture(item, side * 2);
  if (source === null) return h("span", { class: "no-picture", "--side": `${side}px` }, "no picture");
  const image = h("img", { src: source, alt: text, loading: "lazy", decoding: "async", width: side, height: side, draggable: "false" });
  image.addEventListener("error", () => image.replaceWith(h("span", { class: "no-picture", "--side": `${side}px` }, "picture is gone or changed")));
  return image;
}

const mostShown = 120;

// Items as pictures with what they were called; open() is told which one was chosen.
export function gallery(page: Page, items: Item[], open: (item: string) => void, side = 84): HTMLElement {
  const { classes } = page.study;
  const list = h("ul", { class: "gallery" });
  const add = (from: number) => {
    for (const [id, label, predicted, confidence] of items.slice(from, from + mostShown)) {
      const wrong = label !== predicted;
      const text = `${classes[label]}, predicted ${classes[predicted]}${confidence === null ? "" : ` with ${percent(confidence)}`}`;
      list.append(h("li", {}, h("button", { type: "button", class: wrong ? "picture wrong" : "picture right", title: `${pathOf(id)}: ${text}`,
                                            "data-item": id, onclick: () => open(id) },
                                thumbnail(id, side, text),
                                h("span", { class: "said" }, classes[label]!),
                                wrong ? h("span", { class: "said" }, `→ ${classes[predicted]}`) : null,
                                confidence === null ? null : h("span", { class: "said number" }, percent(confidence)))));
    }
    const left = items.length - from - mostShown;
    if (left > 0) {
      const more = h("li", {}, h("button", { type: "button", class: "small", onclick: () => {
        more.remove();
        add(from + mostShown);
      } }, `${left} more`));
      list.append(more);
    }
  };
  add(0);
  return list;
}

export interface ViewerOptions {
  run: string | null;
  move(item: string): void;   // to another one of the list
  close(): void;
  extra?(detail: ItemDetail): HTMLElement | null;
  key?(event: KeyboardEvent): void;
}

// One item large, over the page: what each class got, what other runs call it, what it resembles.
export class Viewer {
  private readonly dialog = h("dialog", { class: "viewer" });
  private items: Item[] = [];
  private item = "";
  private options: ViewerOptions | null = null;

  constructor(private readonly page: Page) {
    document.body.append(this.dialog);
    this.dialog.addEventListener("keydown", (event) => {
      if ((event.target as Element).closest("input, select, textarea")) return;
      const step = event.key === "ArrowRight" || event.key === "ArrowDown" ? 1 : event.key === "ArrowLeft" || event.key === "ArrowUp" ? -1 : 0;
      if (step) {
        event.preventDefault();
        this.step(step);
      } else {
        this.options?.key?.(event);
      }
    });
    this.dialog.addEventListener("close", () => this.options?.close());
    this.dialog.addEventListener("click", (event) => {
      if (event.target === this.dialog) this.dialog.close();
    });
  }

  remove(): void {
    this.options = null;
    this.dialog.remove();
  }

  get isOpen(): boolean {
    return this.dialog.open;
  }

  hide(): void {
    if (this.dialog.open) {
      const { options } = this;
      this.options = null;
      this.dialog.close();
      this.options = options;
    }
  }

  async show(item: string, items: Item[], options: ViewerOptions): Promise<void> {
    this.items = items;
    this.options = options;
    this.item = item;
    if (!this.dialog.open) {
      this.dialog.showModal();
      this.dialog.tabIndex = -1;
    }
    const place = items.findIndex((one) => one[0] === item);
    const body = h("div", { class: "viewer-body" });
    const facts = h("div", { class: "viewer-facts" }, h("p", { class: "quiet", role: "status" }, "reading what the runs say …"));
    body.append(h("div", { class: "viewer-picture" }, thumbnail(item, 360, pathOf(item))), facts);
    replace(this.dialog,
            h("header", {}, h("h2", {}, pathOf(item)),
              h("span", { class: "quiet" }, place >= 0 ? `${place + 1} of ${items.length}` : ""),
              h("button", { type: "button", title: "previous (left arrow)", onclick: () => this.step(-1), disabled: place <= 0 }, "←"),
              h("button", { type: "button", title: "next (right arrow)", onclick: () => this.step(1), disabled: place < 0 || place >= items.length - 1 }, "→"),
              h("button", { type: "button", title: "close (Escape)", onclick: () => this.dialog.close() }, "close")),
            body);
    this.dialog.focus();
    try {
      const detail = await ask<ItemDetail>("item", { item });
      if (this.item === item) this.fill(facts, detail);
    } catch (error) {
      replace(facts, failure(error));
    }
  }

  private step(by: number): void {
    const place = this.items.findIndex((one) => one[0] === this.item);
    const next = this.items[place + by];
    if (place >= 0 && next) this.options?.move(next[0]);
  }

  private fill(facts: HTMLElement, detail: ItemDetail): void {
    const { study } = this.page;
    const { classes } = study;
    const own = detail.runs.find((one) => one.run === this.options?.run) ?? null;
    const parts: (HTMLElement | null)[] = [h("p", {}, "label ", h("strong", {}, classes[detail.label] ?? "?"),
      detail.mark ? h("span", { class: "quiet" }, `, marked${detail.mark.excluded ? " to be excluded" : detail.mark.label ? ` as ${detail.mark.label}` : ""} ${detail.mark.note}`) : null)];
    if (this.options?.extra) parts.push(this.options.extra(detail));
    if (own) {
      const order = own.probabilities.map((probability, c) => [probability, c] as const).sort((a, b) => b[0] - a[0]).slice(0, 12);
      parts.push(h("h3", {}, "probability of each class, by ", runLink(study, own.run)),
                 h("table", { class: "bars" }, h("tbody", {}, ...order.map(([probability, c]) =>
                   h("tr", { class: c === detail.label ? "label" : null }, h("th", { scope: "row" }, classes[c]!),
                     h("td", {}, h("span", { class: c === detail.label ? "bar right" : "bar wrong", "--share": `${100 * probability}%` })),
                     h("td", { class: "number" }, decimal(probability)))))),
                 own.probabilities.length > order.length ? h("p", { class: "quiet small" }, `and ${own.probabilities.length - order.length} less likely classes`) : null);
    }
    const others = detail.runs.filter((one) => one !== own);
    if (others.length) {
      const right = detail.runs.filter((one) => one.predicted === detail.label).length;
      parts.push(h("h3", {}, `predictions of the other runs: ${right} of ${detail.runs.length} runs are right`),
                 h("div", { class: "scroll others" }, h("table", {}, h("tbody", {}, ...others.map((one) => {
                   const row = rowOf(study, one.run);
                   return h("tr", {}, h("td", {}, row ? mark(study, row.candidate) : null, " ", one.run),
                            h("td", { class: one.predicted === detail.label ? "is-right" : "is-wrong" }, classes[one.predicted] ?? "?"),
                            h("td", { class: "number" }, decimal(one.probabilities[one.predicted])));
                 })))));
    }
    if (this.options?.run && !isReport)
      parts.push(h("p", {}, h("a", { href: addressOf("network", { run: this.options.run, item: detail.item }) }, "activations of each layer")));
    replace(facts, ...parts);
    if (own && !isReport) void this.neighbours(facts, detail.item, own.run);
  }

  private async neighbours(facts: HTMLElement, item: string, run: string): Promise<void> {
    const { study } = this.page;
    const place = h("div", {}, h("h3", {}, "most similar training pictures"), h("p", { class: "quiet", role: "status" }, "comparing features …"));
    facts.append(place);
    try {
      const found = await ask<{ neighbours: { item: string; label: number; similarity: number }[] }>("neighbours", { run, item });
      const list = h("ul", { class: "gallery" }, ...found.neighbours.map((one) =>
        h("li", {}, h("span", { class: "picture" }, thumbnail(one.item, 64, study.classes[one.label]!),
                      h("span", { class: "said" }, study.classes[one.label]!), h("span", { class: "said number" }, decimal(one.similarity, 2))))));
      replace(place, h("h3", {}, "most similar training pictures, by the features of this run"), list);
    } catch (error) {
      replace(place, h("h3", {}, "most similar training pictures"), failure(error));
    }
  }
}
