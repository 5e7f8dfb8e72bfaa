// A confusion matrix: rows are true classes, columns predicted ones. Drawn on a canvas, so that 200 classes and
// a film of them stay fluent; the same as a table for those who cannot see it.
import { cellTones, toneSteps, theme } from "./colours";
import { h, onFrame, replace, save } from "./dom";
import { csvField } from "./format";

export type CellValue = "counts" | "true" | "predicted" | "difference";
export interface Cell { row: number; column: number }
export type Order = "name" | "similarity";

export interface MatrixOptions {
  title: string;
  classes: string[];
  onPick?(cell: Partial<Cell>): void;  // a cell, a row or a column
  onPoint?(cell: Cell | null): void;
  describe(row: number, column: number, value: number): string;
}

// Classes so that those that are confused with each other stand together: clusters of classes merged by the mean
// share of items that they exchange, largest first.
export function bySimilarity(counts: Float64Array, classes: number): number[] {
  const totals = new Float64Array(classes);
  for (let row = 0; row < classes; ++row)
    for (let column = 0; column < classes; ++column) totals[row] += counts[row * classes + column]!;
  const near = new Float64Array(classes * classes);
  for (let a = 0; a < classes; ++a)
    for (let b = 0; b < classes; ++b)
      near[a * classes + b] = (totals[a] ? counts[a * classes + b]! / totals[a]! : 0) + (totals[b] ? counts[b * classes + a]! / totals[b]! : 0);
  const members: (number[] | null)[] = Array.from({ length: classes }, (_, i) => [i]);
  for (let left = classes; left > 1; --left) {
    let best = -1;
    let first = 0;
    let second = 0;
    for (let a = 0; a < classes; ++a) {
      if (!members[a]) continue;
      for (let b = a + 1; b < classes; ++b)
        if (members[b] && near[a * classes + b]! > best) {
          best = near[a * classes + b]!;
          first = a;
          second = b;
        }
    }
    if (best <= 0) break;  // the rest has nothing to do with each other
    const [sizeA, sizeB] = [members[first]!.length, members[second]!.length];
    for (let c = 0; c < classes; ++c) {
      const joined = (near[first * classes + c]! * sizeA + near[second * classes + c]! * sizeB) / (sizeA + sizeB);
      near[first * classes + c] = joined;
      near[c * classes + first] = joined;
    }
    members[first] = [...members[first]!, ...members[second]!];
    members[second] = null;
  }
  return members.flatMap((group) => group ?? []);
}

export class MatrixView {
  readonly element: HTMLElement;
  private readonly canvas = h("canvas", { tabindex: 0, role: "img", class: "matrix" });
  private readonly readout = h("p", { class: "readout", "aria-live": "polite" });
  private readonly table = h("details", { class: "as-table" });
  private values: Float64Array;
  private value: CellValue = "counts";
  private order: number[];
  private outlined: Cell | null = null;
  private beyond: Set<number> | null = null;
  private chosen: Partial<Cell> | null = null;
  private side = 0;
  private left = 0;
  private top = 0;
  private named = false;
  private slanted = false;
  private longest = 0;
  private height = 0;
  private fullWidth = 0;
  private laidOut = "";  // for which width and colours
  private looks = { ink: "", quiet: "", line: "", font: "" };
  private readonly classes: number;
  private readonly observer: ResizeObserver;
  private readonly pixels: HTMLCanvasElement;
  private readonly redraw = onFrame(() => this.draw());

  constructor(private readonly options: MatrixOptions) {
    this.classes = options.classes.length;
    this.canvas.setAttribute("aria-label", `${options.title}, ${this.classes} classes; arrow keys move through its cells, Enter opens one`);
    this.values = new Float64Array(this.classes * this.classes);
    this.order = [...options.classes.keys()];
    this.pixels = h("canvas", { width: Math.max(1, this.classes), height: Math.max(1, this.classes) });
    this.table.append(h("summary", {}, "as a table"));
    this.table.addEventListener("toggle", () => this.fillTable());
    this.element = h("div", { class: "matrix-box" }, this.canvas, this.readout,
                     h("div", { class: "tools" },
                       h("button", { type: "button", class: "small", title: "save as PNG", onclick: () => this.savePng() }, "PNG"),
                       h("button", { type: "button", class: "small", title: "save as CSV", onclick: () => save(this.options.title, "csv", this.csv(), "text/csv") }, "CSV")),
                     this.table);
    this.observer = new ResizeObserver(() => this.redraw(null));
    this.observer.observe(this.element);
    this.listen();
  }

  close(): void {
    this.observer.disconnect();
  }

  // values: row by row, counts or differences. order: of classes, in both directions. beyond: cells that are
  // marked, by row * classes + column.
  set(values: Float64Array, value: CellValue, order: number[], beyond: Set<number> | null = null): void {
    this.values = values;
    this.value = value;
    this.order = order;
    this.beyond = beyond;
    this.redraw(null);
    if (this.table.open) this.fillTable();
  }
  choose(cell: Partial<Cell> | null): void {
    this.chosen = cell;
    this.redraw(null);
  }

  // What a cell shows, as a share of its row or column or as it is.
  private shares(): { share: Float64Array; text(place: number): string } {
    const { classes, values } = this;
    const share = new Float64Array(values.length);
    if (this.value === "difference") {
      share.set(values);
      return { share, text: (place) => (values[place] ? `${values[place]! > 0 ? "+" : "−"}${Math.abs(100 * values[place]!).toFixed(0)}` : "") };
    }
    const byColumn = this.value === "predicted";
    const totals = new Float64Array(classes);
    for (let row = 0; row < classes; ++row)
      for (let column = 0; column < classes; ++column) totals[byColumn ? column : row] += values[row * classes + column]!;
    for (let row = 0; row < classes; ++row)
      for (let column = 0; column < classes; ++column) {
        const total = totals[byColumn ? column : row]!;
        share[row * classes + column] = total ? values[row * classes + column]! / total : 0;
      }
    return { share, text: (place) => (!values[place] ? "" : this.value === "counts" ? String(values[place]) : (100 * share[place]!).toFixed(0)) };
  }

  // As large as fits, with names where there is room for them.
  private layOut(width: number): void {
    const { classes } = this;
    const styles = getComputedStyle(this.element);
    const colour = (name: string) => styles.getPropertyValue(name).trim();
    this.looks = { ink: colour("--ink"), quiet: colour("--quiet"), line: colour("--line"), font: styles.fontFamily };
    const context = this.canvas.getContext("2d")!;
    context.font = this.font(12);
    this.longest = Math.min(110, Math.max(...this.options.classes.map((name) => context.measureText(name).width)));
    const most = Math.min(width, Math.max(440, Math.min(820, innerHeight - 240)));
    this.named = (most - this.longest - 30) / classes >= 9;
    this.left = this.named ? Math.ceil(this.longest) + 26 : 22;
    this.side = Math.max(2, Math.min(84, Math.floor(((most - this.left - 2) / classes) * 4) / 4));
    this.slanted = this.named && this.side < this.longest + 4;
    const above = Math.ceil(this.longest * 0.72);
    this.top = this.named ? (this.slanted ? above + 24 : 36) : 20;
    const area = this.side * classes;
    this.fullWidth = this.left + area + (this.slanted ? Math.min(above, Math.max(0, width - this.left - area)) : 2);
    this.height = this.top + area + 2;
    const scale = devicePixelRatio || 1;
    this.canvas.width = Math.round(this.fullWidth * scale);
    this.canvas.height = Math.round(this.height * scale);
    this.canvas.style.setProperty("width", `${this.fullWidth}px`);
    this.canvas.style.setProperty("height", `${this.height}px`);
  }

  private font(size: number): string {
    return `${size}px ${this.looks.font}`;
  }

  private draw(): void {
    const width = Math.floor(this.element.clientWidth);
    if (width <= 0 || !this.classes) return;
    const layout = `${width} ${innerHeight} ${theme()} ${devicePixelRatio}`;
    if (layout !== this.laidOut) {
      this.layOut(width);
      this.laidOut = layout;
    }
    const { classes } = this;
    const context = this.canvas.getContext("2d")!;
    const scale = devicePixelRatio || 1;
    const area = this.side * classes;
    context.setTransform(scale, 0, 0, scale, 0, 0);
    context.clearRect(0, 0, this.fullWidth, this.height);

    const { share, text } = this.shares();
    const isDifference = this.value === "difference";
    const right = cellTones(true);
    const wrong = cellTones(false);
    const image = new ImageData(classes, classes);
    const pixels = new Uint32Array(image.data.buffer);
    for (let r = 0; r < classes; ++r) {
      const row = this.order[r]! * classes;
      for (let c = 0; c < classes; ++c) {
        const value = share[row + this.order[c]!]!;
        const step = Math.ceil(Math.min(1, Math.abs(value)) * toneSteps);
        pixels[r * classes + c] = (isDifference ? value > 0 : r === c) ? right.pixels[step]! : wrong.pixels[step]!;
      }
    }
    this.pixels.getContext("2d")!.putImageData(image, 0, 0);
    context.imageSmoothingEnabled = false;
    context.drawImage(this.pixels, this.left, this.top, area, area);

    context.strokeStyle = this.looks.line;
    context.lineWidth = 1;
    if (this.side >= 6) {
      context.beginPath();
      for (let i = 0; i <= classes; ++i) {
        const at = i * this.side;
        context.moveTo(this.left + at, this.top);
        context.lineTo(this.left + at, this.top + area);
        context.moveTo(this.left, this.top + at);
        context.lineTo(this.left + area, this.top + at);
      }
      context.stroke();
    } else {
      context.strokeRect(this.left, this.top, area, area);
    }
    context.textBaseline = "middle";
    if (this.side >= 20) {
      context.textAlign = "center";
      context.font = this.font(this.side >= 30 ? 13 : 10);
      for (let r = 0; r < classes; ++r)
        for (let c = 0; c < classes; ++c) {
          const place = this.order[r]! * classes + this.order[c]!;
          const shown = text(place);
          if (!shown) continue;
          const step = Math.ceil(Math.min(1, Math.abs(share[place]!)) * toneSteps);
          context.fillStyle = ((isDifference ? share[place]! > 0 : r === c) ? right : wrong).inks[step]!;
          context.fillText(shown, this.left + (c + 0.5) * this.side, this.top + (r + 0.5) * this.side);
        }
    }
    if (this.beyond) {
      context.strokeStyle = this.looks.ink;
      context.lineWidth = 2;
      for (let r = 0; r < classes; ++r)
        for (let c = 0; c < classes; ++c)
          if (this.beyond.has(this.order[r]! * classes + this.order[c]!))
            context.strokeRect(this.left + c * this.side + 1.5, this.top + r * this.side + 1.5, this.side - 3, this.side - 3);
    }
    this.drawNames(context);
    this.outline(this.chosen, 2);
    this.outline(this.outlined, 1);
  }

  private drawNames(context: CanvasRenderingContext2D): void {
    const { classes } = this;
    const area = this.side * classes;
    context.fillStyle = this.looks.ink;
    if (this.named) {
      context.font = this.font(Math.min(12, this.side + 2));
      const fitted = (name: string) => {
        let shown = name;
        while (shown.length > 1 && context.measureText(shown).width > this.longest) shown = shown.slice(0, -2) + "…";
        return shown;
      };
      for (let i = 0; i < classes; ++i) {
        const name = fitted(this.options.classes[this.order[i]!]!);
        context.textAlign = "right";
        context.fillText(name, this.left - 6, this.top + (i + 0.5) * this.side);
        context.save();
        context.translate(this.left + (i + 0.5) * this.side, this.top - 8);
        if (this.slanted) {
          context.rotate(-Math.PI / 4);
          context.textAlign = "left";
        } else {
          context.textAlign = "center";
        }
        context.fillText(name, 0, 0);
        context.restore();
      }
    }
    context.fillStyle = this.looks.quiet;
    context.font = this.font(11);
    context.textAlign = "center";
    context.fillText("predicted", this.left + area / 2, 8);
    context.save();
    context.translate(8, this.top + area / 2);
    context.rotate(-Math.PI / 2);
    context.fillText("true", 0, 0);
    context.restore();
  }

  private outline(cell: Partial<Cell> | null, width: number): void {
    if (!cell) return;
    const context = this.canvas.getContext("2d")!;
    const area = this.side * this.classes;
    const row = cell.row === undefined ? -1 : this.order.indexOf(cell.row);
    const column = cell.column === undefined ? -1 : this.order.indexOf(cell.column);
    if (row < 0 && column < 0) return;
    context.strokeStyle = this.looks.ink;
    context.lineWidth = width;
    context.strokeRect(this.left + (column < 0 ? 0 : column * this.side) - 0.5, this.top + (row < 0 ? 0 : row * this.side) - 0.5,
                       (column < 0 ? area : this.side) + 1, (row < 0 ? area : this.side) + 1);
  }

  private tell(cell: Cell | null): void {
    this.outlined = cell;
    this.readout.textContent = cell ? this.options.describe(cell.row, cell.column, this.values[cell.row * this.classes + cell.column]!) : "";
    this.options.onPoint?.(cell);
    this.redraw(null);
  }

  // The cell, row or column under the pointer.
  private under(event: MouseEvent): Partial<Cell> | null {
    const box = this.canvas.getBoundingClientRect();
    const column = Math.floor((event.clientX - box.left - this.left) / this.side);
    const row = Math.floor((event.clientY - box.top - this.top) / this.side);
    if (row >= this.classes || column >= this.classes || (row < 0 && column < 0)) return null;
    return { ...(row >= 0 ? { row: this.order[row]! } : {}), ...(column >= 0 ? { column: this.order[column]! } : {}) };
  }

  private listen(): void {
    const move = onFrame((cell: Partial<Cell> | null) => {
      this.tell(cell && cell.row !== undefined && cell.column !== undefined ? cell as Cell : null);
    });
    this.canvas.addEventListener("pointermove", (event) => move(this.under(event)));
    this.canvas.addEventListener("pointerleave", () => move(null));
    this.canvas.addEventListener("click", (event) => {
      const cell = this.under(event);
      if (cell) this.options.onPick?.(cell);
    });
    this.canvas.addEventListener("keydown", (event) => {
      const steps: { [key: string]: [number, number] } = { ArrowRight: [0, 1], ArrowLeft: [0, -1], ArrowDown: [1, 0], ArrowUp: [-1, 0] };
      const step = steps[event.key];
      if (step) {
        event.preventDefault();
        const place = (of: number) => this.order.indexOf(of);
        const within = (at: number) => Math.min(this.classes - 1, Math.max(0, at));
        const from = this.outlined ?? { row: this.order[0]!, column: this.order[0]! };
        this.tell(this.outlined ? { row: this.order[within(place(from.row) + step[0])]!, column: this.order[within(place(from.column) + step[1])]! } : from);
      } else if (event.key === "Enter" && this.outlined) {
        this.options.onPick?.(this.outlined);
      }
    });
    this.canvas.addEventListener("blur", () => this.tell(null));
  }

  private fillTable(): void {
    if (!this.table.open) return;
    const { text } = this.shares();
    const head = h("tr", {}, h("th", {}, "true \\ predicted"), ...this.order.map((column) => h("th", { scope: "col" }, this.options.classes[column]!)));
    const rows = this.order.map((row) => h("tr", {}, h("th", { scope: "row" }, this.options.classes[row]!),
      ...this.order.map((column) => h("td", { class: "number" }, text(row * this.classes + column) || "0"))));
    replace(this.table, h("summary", {}, "as a table"), h("div", { class: "scroll" }, h("table", {}, h("thead", {}, head), h("tbody", {}, ...rows))));
  }

  private csv(): string {
    const lines = [["true_class", ...this.order.map((column) => this.options.classes[column]!)]];
    for (const row of this.order)
      lines.push([this.options.classes[row]!, ...this.order.map((column) => String(this.values[row * this.classes + column]))]);
    return lines.map((line) => line.map(csvField).join(",") + "\r\n").join("");
  }
  private savePng(): void {
    this.canvas.toBlob((blob) => blob && save(this.options.title, "png", blob));
  }
}
