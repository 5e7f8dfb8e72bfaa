// A table that can be sorted, filtered and saved. What is sorted by and filtered by stands in the address.
import { checkbox, h, replace, save, Child } from "./dom";
import { csvField } from "./format";

export interface Column<Row> {
  key: string;
  head: string;
  title?: string;
  numeric?: boolean;
  value(row: Row): string | number | null;  // sorted, filtered and saved
  cell?(row: Row): Child;                   // shown; otherwise the value
}

export interface TableOptions<Row> {
  columns: Column<Row>[];
  caption: string;
  id(row: Row): string;
  sort?: string;                       // "key" or "-key"
  filter?: string;
  selected?: Set<string>;
  rowClass?(row: Row): string;
  onSort?(sort: string): void;
  onFilter?(filter: string): void;
  onSelect?(row: Row, event: Event): void;  // a row was clicked, or Enter pressed on it
  onPoint?(row: Row | null): void;
  filename: string;
  most?: number;
  hidden?: string[];                   // columns by key; the first is always shown
  onHide?(hidden: string[]): void;
}

const operators: [string, (a: number, b: number) => boolean][] = [
  ["<=", (a, b) => a <= b], [">=", (a, b) => a >= b], ["<", (a, b) => a < b], [">", (a, b) => a > b],
];

// Words that a row must hold, or conditions on a column: regime=frozen seconds<10.
export function matches<Row>(row: Row, columns: Column<Row>[], filter: string): boolean {
  const conditions = filter.match(/(?:[^\s"]+|"[^"]*")+/g) ?? [];
  return conditions.every((condition) => {
    const parts = /^([A-Za-z_.0-9]+?)(<=|>=|!=|=|<|>)(.*)$/.exec(condition);
    const column = parts && columns.find((one) => one.key === parts[1] || one.key.endsWith("." + parts[1]));
    if (!parts || !column) {
      const word = condition.replace(/"/g, "").toLowerCase();
      return columns.some((one) => String(one.value(row) ?? "").toLowerCase().includes(word));
    }
    const value = column.value(row);
    const wanted = parts[3]!.replace(/"/g, "");
    if (parts[2] === "=") return String(value ?? "") === wanted || (value !== null && wanted !== "" && Number(value) === Number(wanted));
    if (parts[2] === "!=") return String(value ?? "") !== wanted;
    const compare = operators.find(([name]) => name === parts[2])![1];
    return value !== null && value !== "" && compare(Number(value), Number(wanted));
  });
}

function compared(a: string | number | null, b: string | number | null): number {
  if (a === null || a === "") return b === null || b === "" ? 0 : 2;
  if (b === null || b === "") return -2;
  if (typeof a === "number" && typeof b === "number") return a - b;
  return String(a).localeCompare(String(b), "en", { numeric: true });
}

export class DataTable<Row> {
  readonly element: HTMLElement;
  private readonly body = h("tbody");
  private readonly head = h("tr");
  private readonly below = h("p", { class: "quiet small" });
  private readonly rowsById = new Map<string, HTMLTableRowElement>();
  private rows: Row[] = [];
  private shown: Row[] = [];
  private most: number;
  sort: string;
  filter: string;
  alsoFilteredBy: Column<Row>[] = [];  // columns that are not shown

  constructor(private readonly options: TableOptions<Row>) {
    this.sort = options.sort ?? "";
    this.filter = options.filter ?? "";
    this.most = options.most ?? 200;
    const tools = h("div", { class: "tools" });
    if (options.onFilter) {
      const box = h("input", { type: "search", value: this.filter, placeholder: "filter: words, or column<value",
                               "aria-label": `filter ${options.caption}`, class: "filter" });
      box.addEventListener("input", () => {
        this.filter = box.value;
        this.draw();
        options.onFilter!(box.value);
      });
      tools.append(box);
    }
    if (options.onHide) {
      const hidden = new Set(options.hidden ?? []);
      const all = options.columns;
      options.columns = all.filter((column) => !hidden.has(column.key));
      tools.append(h("details", { class: "menu right" }, h("summary", {}, "columns"), h("div", {}, ...all.slice(1).map((column) =>
        checkbox(column.head || column.key, !hidden.has(column.key), (on) => {
          if (on) hidden.delete(column.key);
          else hidden.add(column.key);
          options.onHide!([...hidden]);
        })))));
    }
    tools.append(h("button", { type: "button", class: "small", title: "save this table as CSV",
                               onclick: () => save(options.filename, "csv", this.csv(), "text/csv") }, "CSV"));
    this.element = h("div", { class: "table" }, tools,
                     h("div", { class: "scroll" }, h("table", {}, h("caption", { class: "unseen" }, options.caption),
                                                     h("thead", {}, this.head), this.body)), this.below);
    if (options.onPoint) this.body.addEventListener("pointerleave", () => options.onPoint!(null));
    this.drawHead();
  }

  setRows(rows: Row[]): void {
    this.rows = rows;
    this.draw();
  }
  setColumns(columns: Column<Row>[]): void {
    this.options.columns = columns;
    this.drawHead();
    this.draw();
  }
  setSelected(selected: Set<string>): void {
    this.options.selected = selected;
    for (const [id, row] of this.rowsById) this.markSelected(row, id);
  }
  // The rows as they are shown: filtered and sorted.
  visible(): Row[] {
    return this.shown;
  }
  cellOf(id: string, key: string): HTMLElement | null {
    const column = this.options.columns.findIndex((one) => one.key === key);
    return this.rowsById.get(id)?.children[column] as HTMLElement | undefined ?? null;
  }
  point(id: string | null): void {
    this.body.querySelector(".pointed")?.classList.remove("pointed");
    if (id !== null) this.rowsById.get(id)?.classList.add("pointed");
  }
  csv(): string {
    const { columns } = this.options;
    const lines = [columns.map((column) => csvField(column.head || column.key))];
    for (const row of this.shown) lines.push(columns.map((column) => csvField(String(column.value(row) ?? ""))));
    return lines.map((line) => line.join(",") + "\r\n").join("");
  }

  private markSelected(row: HTMLTableRowElement, id: string): void {
    const selected = this.options.selected?.has(id) ?? false;
    row.classList.toggle("selected", selected);
    if (this.options.selected) row.setAttribute("aria-selected", String(selected));
  }

  private drawHead(): void {
    replace(this.head, ...this.options.columns.map((column) => {
      const sorted = this.sort.replace(/^-/, "") === column.key;
      const downward = this.sort.startsWith("-");
      const button = h("button", { type: "button", title: column.title ?? `sort by ${column.head}`, onclick: () => {
        this.sort = sorted && downward === !!column.numeric ? (downward ? column.key : "-" + column.key)
                  : column.numeric ? "-" + column.key : column.key;
        this.drawHead();
        this.draw();
        this.options.onSort?.(this.sort);
        this.head.querySelector<HTMLElement>("[aria-sort] button")?.focus();
      } }, column.head, sorted ? h("span", { "aria-hidden": "true" }, downward ? " ↓" : " ↑") : null);
      return h("th", { scope: "col", class: column.numeric ? "number" : null,
                       "aria-sort": sorted ? (downward ? "descending" : "ascending") : null }, button);
    }));
  }

  draw(): void {
    const columns = [...this.options.columns, ...this.alsoFilteredBy];
    this.shown = this.filter.trim() ? this.rows.filter((row) => matches(row, columns, this.filter)) : [...this.rows];
    const column = columns.find((one) => one.key === this.sort.replace(/^-/, ""));
    if (column) {
      const sign = this.sort.startsWith("-") ? -1 : 1;
      this.shown.sort((a, b) => {
        const order = compared(column.value(a), column.value(b));
        return Math.abs(order) === 2 && (column.value(a) === null || column.value(b) === null) ? order : sign * order;
      });
    }
    this.rowsById.clear();
    const drawn = this.shown.slice(0, this.most).map((row) => this.rowElement(row));
    this.body.replaceChildren(...drawn);
    const left = this.shown.length - drawn.length;
    replace(this.below,
            this.shown.length < this.rows.length ? `${this.shown.length} of ${this.rows.length} rows` : null,
            left > 0 ? h("button", { type: "button", class: "small", onclick: () => {
              this.most = Infinity;
              this.draw();
            } }, `show ${left} more`) : null);
  }

  private rowElement(row: Row): HTMLTableRowElement {
    const { columns, id } = this.options;
    const element = h("tr", { class: this.options.rowClass?.(row), "data-id": id(row) },
                      ...columns.map((one) => h("td", { class: one.numeric ? "number" : null },
                                                one.cell ? one.cell(row) : one.value(row) ?? "–")));
    if (this.options.onSelect) {
      element.tabIndex = 0;
      element.addEventListener("click", (event) => {
        if (!(event.target as Element).closest("a, button, input, select")) this.options.onSelect!(row, event);
      });
      element.addEventListener("keydown", (event) => this.onKey(event, element, row));
    }
    if (this.options.onPoint) {
      element.addEventListener("pointerenter", () => this.options.onPoint!(row));
      element.addEventListener("focus", () => this.options.onPoint!(row));
    }
    this.rowsById.set(id(row), element);
    this.markSelected(element, id(row));
    return element;
  }

  // What changed of some rows, where they stand: a table that is being read does not jump.
  update(rows: Row[]): void {
    const { columns, id } = this.options;
    const changed = new Map(rows.map((row) => [id(row), row]));
    this.rows = this.rows.map((row) => changed.get(id(row)) ?? row);
    this.shown = this.shown.map((row) => changed.get(id(row)) ?? row);
    for (const row of rows) {
      const element = this.rowsById.get(id(row));
      if (!element) continue;
      columns.forEach((one, i) => {
        if (one.cell && !one.numeric) return;  // a name
        const cell = element.children[i]!;
        const content = one.cell ? one.cell(row) : one.value(row) ?? "–";
        const text = content instanceof Node ? content.textContent : String(content ?? "");
        if (cell.textContent !== text) replace(cell, content);
      });
    }
  }

  private onKey(event: KeyboardEvent, element: HTMLTableRowElement, row: Row): void {
    if (event.target !== element) return;
    const next = event.key === "ArrowDown" ? element.nextElementSibling
               : event.key === "ArrowUp" ? element.previousElementSibling : null;
    if (next) {
      (next as HTMLElement).focus();
      event.preventDefault();
    } else if (event.key === "Enter" || event.key === " ") {
      event.preventDefault();
      this.options.onSelect!(row, event);
    }
  }
}
