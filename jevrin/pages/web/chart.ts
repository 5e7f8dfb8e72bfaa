// Charts of lines and points over two axes. Scales, axes and shapes are the chart library's.
import { scaleLinear, scaleLog, Scale } from "d3-scale";
import { axisBottom, axisLeft } from "d3-axis";
import { select } from "d3-selection";
import { line, area } from "d3-shape";
import { h, svg, save, onFrame, replace } from "./dom";
import { csvField, plain, short } from "./format";
import { savePng, saveSvg } from "./chart_files";

export type Point = [number, number];
export interface Series {
  id: string;
  name: string;
  colour: string;
  points: Point[];
  dashed?: boolean;
  faint?: boolean;      // without a value of its own: a raw curve, a diagonal
  dots?: boolean;
  best?: Point | null;  // marked with a ring
  band?: [number, number, number][];  // x, low, high
  area?: boolean;
}
export interface ChartOptions {
  title: string;      // for those who cannot see it, and for its file
  xLabel: string;
  yLabel: string;
  height: number;
  log?: boolean;
  xDomain?: [number, number] | null;  // otherwise all
  yDomain?: [number, number] | null;
  whole?: boolean;                    // x has whole numbers only
  pin?: number | null;
  onPoint?(x: number | null): void;
  onPin?(x: number | null): void;
  onZoom?(domain: [number, number] | null): void;
  onPick?(id: string): void;
  xFormat?(value: number): string;
}

// Of the table behind a chart.
const mostColumns = 40;

const margin = { top: 10, right: 12, bottom: 38, left: 54 };

// The place of the last point that is not beyond x.
function placeOf(points: Point[], x: number): number {
  let low = 0;
  let high = points.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (points[middle]![0] <= x) low = middle + 1;
    else high = middle;
  }
  return low - 1;
}

// The point nearest to x.
export function nearest(points: Point[], x: number): Point | null {
  if (!points.length) return null;
  const before = placeOf(points, x);
  const a = points[Math.max(0, before)]!;
  const b = points[Math.min(points.length - 1, before + 1)]!;
  return Math.abs(a[0] - x) <= Math.abs(b[0] - x) ? a : b;
}

export class Chart {
  readonly element: HTMLElement;
  private readonly drawing = svg("svg", { role: "img", tabindex: 0, class: "chart" });
  private readonly shapes = svg("g");
  private readonly table = h("details", { class: "as-table" });
  private frame = "";  // what the axes were drawn for
  private drawn: { outline: string; shape: SVGGElement }[] = [];
  // Above the drawing, so that what follows the pointer does not draw the lines anew.
  private readonly overlay = svg("svg", { class: "chart-overlay", "aria-hidden": "true" });
  private readonly pointer = svg("g", { class: "pointer" });
  private readonly selection = svg("rect", { class: "zooming", visibility: "hidden" });
  private series: Series[] = [];
  private x: Scale = scaleLinear();
  private y: Scale = scaleLinear();
  private width = 0;
  private lines: [string, SVGGElement][] = [];
  private dots: { series: Series; dot: SVGCircleElement }[] = [];
  private rule = svg("line", { class: "rule", visibility: "hidden" });
  private pointed: number | null = null;
  private readonly observer: ResizeObserver;

  constructor(public options: ChartOptions) {
    this.element = h("figure", { class: "chart-box" });
    this.table.append(h("summary", {}, "as a table"));
    this.table.addEventListener("toggle", () => this.fillTable());
    this.element.append(this.drawing, this.overlay, this.tools(), this.table);
    this.overlay.append(this.selection, this.pointer);
    this.observer = new ResizeObserver(() => {
      const width = Math.floor(this.element.clientWidth);
      if (width > 0 && width !== this.width) {
        this.width = width;
        this.draw();
      }
    });
    this.observer.observe(this.element);
    this.listen();
  }

  close(): void {
    this.observer.disconnect();
  }

  set(series: Series[], options: Partial<ChartOptions> = {}): void {
    this.series = series;
    Object.assign(this.options, options);
    const { title, xLabel, yLabel } = this.options;
    this.drawing.setAttribute("aria-label", `${title}: ${yLabel} by ${xLabel}; arrow keys move along it`);
    if (this.width > 0) this.draw();
    this.fillTable();
  }

  // The line of this series stands out.
  highlight(id: string | null): void {
    for (const [of, shape] of this.lines) {
      shape.classList.toggle("away", id !== null && of !== id);
      shape.classList.toggle("near", id !== null && of === id);
    }
  }

  // Shows the values at x, from outside: another chart is pointed at.
  point(x: number | null): void {
    this.pointed = x;
    this.drawPointer();
  }

  private tools(): HTMLElement {
    return h("div", { class: "chart-tools" },
             h("button", { type: "button", class: "small", title: "save as SVG", onclick: () => saveSvg(this.drawing, this.options.title) }, "SVG"),
             h("button", { type: "button", class: "small", title: "save as PNG", onclick: () => savePng(this.drawing, this.options.title) }, "PNG"),
             h("button", { type: "button", class: "small", title: "save its points as CSV", onclick: () => save(this.options.title, "csv", this.csv(), "text/csv") }, "CSV"));
  }

  // The same for those who cannot see it: a row for each x, a column for each line.
  private fillTable(): void {
    if (!this.table.open) return;
    const lines = this.series.filter((one) => !one.faint).slice(0, mostColumns);
    const rows = new Map<number, (number | null)[]>();
    lines.forEach((one, column) => one.points.forEach(([x, y]) => {
      if (!rows.has(x)) rows.set(x, lines.map(() => null));
      rows.get(x)![column] = y;
    }));
    const body = [...rows].sort((a, b) => a[0] - b[0]).map(([x, values]) =>
      h("tr", {}, h("th", { scope: "row" }, plain(x)), ...values.map((value) => h("td", { class: "number" }, short(value)))));
    replace(this.table, h("summary", {}, "as a table"), h("div", { class: "scroll" }, h("table", {},
      h("thead", {}, h("tr", {}, h("th", {}, this.options.xLabel), ...lines.map((one) => h("th", { scope: "col" }, one.name)))), h("tbody", {}, ...body))));
  }

  private csv(): string {
    const { xLabel, yLabel } = this.options;
    const lines = [["line", xLabel, yLabel]];
    for (const one of this.series) for (const [x, y] of one.points) lines.push([one.name, String(x), isFinite(y) ? String(y) : ""]);
    return lines.map((line) => line.map(csvField).join(",") + "\r\n").join("");
  }

  private domains(): void {
    const { options } = this;
    const xs: number[] = [];
    const ys: number[] = [];
    const [from, to] = options.xDomain ?? [-Infinity, Infinity];
    for (const one of this.series) {
      for (const [x, y] of one.points) {
        xs.push(x);
        if (x >= from && x <= to && isFinite(y) && (!options.log || y > 0)) ys.push(y);
      }
      for (const [x, low, high] of one.band ?? [])
        if (x >= from && x <= to && (!options.log || low > 0)) ys.push(low, high);
    }
    const bounds = (values: number[], otherwise: [number, number]): [number, number] => {
      let low = Infinity;
      let high = -Infinity;
      for (const value of values) {
        if (value < low) low = value;
        if (value > high) high = value;
      }
      if (low > high) return otherwise;
      if (low < high) return [low, high];
      const room = 0.05 * Math.abs(low || 1);
      return [low - room, low <= 1 && low > 0.5 ? Math.min(1, high + room) : high + room];
    };
    const right = Math.max(margin.left + 10, this.width - margin.right);
    let x = options.xDomain ?? bounds(xs, [0, 1]);
    if (!options.xDomain && this.series.some((one) => one.dots)) {
      const room = 0.06 * (x[1] - x[0]);
      x = [x[0] - room, x[1] + room];
    }
    this.x = scaleLinear().domain(x).range([margin.left, right]);
    const y = options.yDomain ?? bounds(ys, options.log ? [0.1, 1] : [0, 1]);
    this.y = (options.log ? scaleLog() : scaleLinear()).domain(y).range([options.height - margin.bottom, margin.top]);
    if (!options.yDomain) this.y.nice(5);
  }

  // Only what changed is drawn anew: a curve that grows while training must not cost more than its line.
  private draw(): void {
    this.domains();
    const { options } = this;
    const frame = JSON.stringify([this.width, options.height, this.x.domain(), this.y.domain(), options.log, options.xLabel, options.yLabel, options.title]);
    if (frame !== this.frame) {
      this.frame = frame;
      this.drawFrame();
    }
    this.shapes.setAttribute("class", this.series.length > 24 ? "many" : "");
    const before = this.drawn;
    this.drawn = this.series.map((one, i) => {
      const outline = this.outlineOf(one);
      const known = before[i];
      return known && known.outline === outline ? known : { outline, shape: this.shapeOf(one) };
    });
    if (this.drawn.length !== before.length) this.shapes.replaceChildren(...this.drawn.map((one) => one.shape));
    else this.drawn.forEach((one, i) => one !== before[i] && before[i]!.shape.replaceWith(one.shape));
    this.lines = this.series.map((one, i) => [one.faint ? "" : one.id, this.drawn[i]!.shape]);
    this.preparePointer();
    this.drawPointer();
  }

  private drawFrame(): void {
    const { options, width } = this;
    for (const layer of [this.drawing, this.overlay]) {
      layer.setAttribute("viewBox", `0 0 ${width} ${options.height}`);
      layer.setAttribute("width", String(width));
      layer.setAttribute("height", String(options.height));
    }
    const bottom = options.height - margin.bottom;
    const clip = svg("clipPath", { id: `clip-${this.identity}` },
                     svg("rect", { x: margin.left, y: margin.top - 4, width: Math.max(0, width - margin.left - margin.right + 6), height: bottom - margin.top + 8 }));
    const xAxis = svg("g", { class: "axis", transform: `translate(0,${bottom})` });
    const yAxis = svg("g", { class: "axis", transform: `translate(${margin.left},0)` });
    const xTicks = Math.max(2, Math.min(10, Math.floor(width / 80)));
    const bottomAxis = axisBottom(this.x).ticks(xTicks).tickSizeOuter(0).tickPadding(5);
    if (options.whole) bottomAxis.tickValues(this.x.ticks(xTicks).filter((value) => value === Math.round(value))).tickFormat((value) => String(value));
    else if (options.xFormat) bottomAxis.tickFormat(options.xFormat);
    select(xAxis).call(bottomAxis);
    const leftAxis = axisLeft(this.y).ticks(options.height < 180 ? 4 : 6).tickSizeInner(-(width - margin.left - margin.right)).tickSizeOuter(0).tickPadding(6);
    if (options.log) leftAxis.tickFormat((value) => (/^[125]/.test(value.toExponential()) ? short(value) : ""));
    select(yAxis).call(leftAxis);
    const labels = [
      svg("text", { class: "axis-label", x: (margin.left + width - margin.right) / 2, y: options.height - 4, "text-anchor": "middle" }, options.xLabel),
      svg("text", { class: "axis-label", transform: `translate(12,${(margin.top + bottom) / 2}) rotate(-90)`, "text-anchor": "middle" }, options.yLabel),
    ];
    this.shapes.setAttribute("clip-path", `url(#clip-${this.identity})`);
    this.drawing.replaceChildren(clip, xAxis, yAxis, ...labels, this.shapes);
    this.drawn = [];
    this.shapes.replaceChildren();
  }

  private lineOf(one: Series): string {
    const { log } = this.options;
    return line<Point>().x((p) => this.x(p[0])).y((p) => this.y(p[1])).defined((p) => isFinite(p[1]) && (!log || p[1] > 0))(one.points) ?? "";
  }
  private bandOf(one: Series): string {
    if (!one.band?.length) return "";
    const lowest = this.options.log ? this.y.domain()[0]! : -Infinity;
    return area<[number, number, number]>().x((p) => this.x(p[0])).y0((p) => this.y(Math.max(p[1], lowest))).y1((p) => this.y(p[2]))(one.band) ?? "";
  }
  private outlineOf(one: Series): string {
    return [one.id, one.colour, one.dashed, one.faint, one.dots, one.best, this.lineOf(one), this.bandOf(one)].join("|");
  }
  private shapeOf(one: Series): SVGGElement {
    const { options } = this;
    const shape = svg("g", {}, one.band?.length ? svg("path", { class: "band", fill: one.colour, d: this.bandOf(one) }) : null,
      svg("path", { class: `line${one.dashed ? " dashed" : ""}${one.faint ? " faint" : ""}`, stroke: one.colour, d: this.lineOf(one) }));
    if (one.dots || one.points.length === 1)
      for (const [x, y] of one.points) {
        const dot = svg("circle", { class: "dot", cx: this.x(x), cy: this.y(y), r: 3.5, fill: one.colour }, svg("title", {}, one.name));
        if (options.onPick) dot.addEventListener("click", () => options.onPick!(one.id));
        shape.append(dot);
      }
    if (one.best) shape.append(svg("circle", { class: "best", cx: this.x(one.best[0]), cy: this.y(one.best[1]), r: 4, stroke: one.colour }));
    return shape;
  }

  private preparePointer(): void {
    const shown = this.series.filter((one) => !one.faint && one.points.length > 1);
    if (shown.length === this.dots.length && shown.every((one, i) => one.colour === this.dots[i]!.series.colour)) {
      shown.forEach((series, i) => (this.dots[i]!.series = series));
      return;
    }
    this.dots = shown.map((series) => ({ series, dot: svg("circle", { r: 3, fill: series.colour, visibility: "hidden" }) }));
    this.pointer.replaceChildren(this.rule, ...this.dots.map((one) => one.dot));
  }

  private drawPointer(): void {
    const at = this.pointed ?? this.options.pin ?? null;
    if (at === null && this.rule.getAttribute("visibility") === "hidden") return;
    this.rule.setAttribute("visibility", at === null ? "hidden" : "visible");
    this.rule.setAttribute("y1", String(margin.top));
    this.rule.setAttribute("y2", String(this.options.height - margin.bottom));
    this.rule.classList.toggle("pinned", this.pointed === null && at !== null);
    if (at !== null) {
      this.rule.setAttribute("x1", String(this.x(at)));
      this.rule.setAttribute("x2", String(this.x(at)));
    }
    const [from, to] = this.x.domain() as [number, number];
    for (const { series, dot } of this.dots) {
      const point = at === null ? null : nearest(series.points, at);
      const seen = point !== null && point[0] >= from && point[0] <= to && Math.abs(point[0] - at!) <= (to - from) / 20
                   && isFinite(point[1]) && (!this.options.log || point[1] > 0);
      dot.setAttribute("visibility", seen ? "visible" : "hidden");
      if (seen) {
        dot.setAttribute("cx", String(this.x(point[0])));
        dot.setAttribute("cy", String(this.y(point[1])));
      }
    }
  }

  private listen(): void {
    const toX = (event: PointerEvent) =>
      this.snapped(this.x.invert(Math.min(Math.max(event.offsetX, margin.left), this.width - margin.right)));
    const tell = onFrame((x: number | null) => {
      this.point(x);
      this.options.onPoint?.(x);
    });
    let from: number | null = null;
    this.drawing.addEventListener("pointermove", (event) => {
      tell(toX(event));
      if (from !== null) {
        const [a, b] = [from, event.offsetX].sort((one, other) => one - other);
        this.selection.setAttribute("visibility", b! - a! > 6 ? "visible" : "hidden");
        for (const [name, value] of [["x", a!], ["y", margin.top], ["width", b! - a!], ["height", this.options.height - margin.bottom - margin.top]] as const)
          this.selection.setAttribute(name, String(value));
      }
    });
    this.drawing.addEventListener("pointerleave", () => tell(null));
    this.drawing.addEventListener("pointerdown", (event) => {
      if (event.button !== 0) return;
      from = event.offsetX;
      this.drawing.setPointerCapture(event.pointerId);
    });
    this.drawing.addEventListener("pointerup", (event) => {
      if (from === null) return;
      const to = event.offsetX;
      const [a, b] = [from, to].sort((one, other) => one - other) as [number, number];
      from = null;
      this.selection.setAttribute("visibility", "hidden");
      if (b - a > 6 && this.options.onZoom)
        this.options.onZoom([this.x.invert(Math.max(a, margin.left)), this.x.invert(Math.min(b, this.width - margin.right))]);
      else if (b - a <= 6 && this.options.onPin)
        this.options.onPin(this.options.pin === toX(event) ? null : toX(event));
    });
    this.drawing.addEventListener("dblclick", () => this.options.onZoom?.(null));
    this.drawing.addEventListener("keydown", (event) => this.onKey(event));
    this.drawing.addEventListener("blur", () => tell(null));
  }

  // The nearest x at which some line has a point.
  private snapped(x: number): number {
    let best = x;
    let distance = Infinity;
    for (const one of this.series) {
      const point = one.faint ? null : nearest(one.points, x);
      if (point && Math.abs(point[0] - x) < distance) {
        distance = Math.abs(point[0] - x);
        best = point[0];
      }
    }
    return best;
  }

  private onKey(event: KeyboardEvent): void {
    const step = event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0;
    const longest = this.series.filter((one) => !one.faint).reduce<Series | null>((a, b) => (!a || b.points.length > a.points.length ? b : a), null);
    if (step !== 0 && longest?.points.length) {
      event.preventDefault();
      const at = this.pointed ?? this.options.pin;
      const place = at === null || at === undefined ? (step > 0 ? -1 : longest.points.length) : placeOf(longest.points, at);
      const x = longest.points[Math.min(longest.points.length - 1, Math.max(0, place + step))]![0];
      this.point(x);
      this.options.onPoint?.(x);
    } else if (event.key === "Enter" && this.pointed !== null) {
      this.options.onPin?.(this.options.pin === this.pointed ? null : this.pointed);
    } else if (event.key === "Escape") {
      this.options.onZoom?.(null);
    }
  }

  private static made = 0;
  private readonly identity = ++Chart.made;
}
