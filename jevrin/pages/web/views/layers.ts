// The layers of a run, epoch by epoch: norms of weights and gradients, update ratio, dead units.
import { ask } from "../data";
import { Page, colourOf } from "../page";
import { change } from "../address";
import { Chart, Series } from "../chart";
import { DataTable } from "../table";
import { h, replace, choice, labelled, nothing } from "../dom";
import { decimal } from "../format";

interface Layers { layers: string[]; epochs: { epoch: number; [quantity: string]: number | (number | null)[] }[] }

const quantities: [string, string][] = [["weight_norm", "weight norm"], ["gradient_norm", "gradient norm"], ["update_ratio", "update ratio"], ["dead_fraction", "dead units"]];

export class LayersPanel {
  readonly element = h("section", { class: "layers-panel" });
  private run = "";
  private layers: Layers = { layers: [], epochs: [] };
  private chart: Chart | null = null;

  constructor(private readonly page: Page) {}

  close(): void {
    this.chart?.close();
  }

  // Only what came since the last time is asked for.
  async show(run: string, quantity: string): Promise<void> {
    if (run !== this.run) {
      this.run = run;
      this.layers = { layers: [], epochs: [] };
      replace(this.element);
    }
    const have = this.layers.epochs;
    const more = await ask<Layers>("layers", have.length ? { run, from: String(have[have.length - 1]!.epoch + 1) } : { run });
    if (run !== this.run) return;
    this.layers = { layers: more.layers.length ? more.layers : this.layers.layers, epochs: [...have, ...more.epochs] };
    this.draw(quantities.some(([name]) => name === quantity) ? quantity : "weight_norm");
  }

  // All of it anew.
  forget(): void {
    this.run = "";
  }

  private draw(quantity: string): void {
    const { layers, epochs } = this.layers;
    this.chart?.close();
    if (!layers.length) return replace(this.element, h("h2", {}, "Layers, epoch by epoch"), nothing("nothing is recorded about the layers"));
    const { study } = this.page;
    const palette = study.candidates.length ? study.candidates.map((one) => colourOf(study, one.candidate)) : ["#777777"];
    const lines: Series[] = layers.map((name, i) => ({ id: name, name, colour: palette[i % palette.length]!,
      points: epochs.map((one) => [one.epoch, (one[quantity] as (number | null)[])[i] ?? NaN]) }));
    const last = (row: Series) => row.points[row.points.length - 1]?.[1] ?? null;
    const chart = new Chart({ title: `${this.run}: ${quantity}`, xLabel: "epoch", yLabel: quantities.find(([name]) => name === quantity)![1], height: 260, whole: true,
                              log: quantity !== "dead_fraction", onPoint: (x) => fill(x) });
    this.chart = chart;
    chart.set(lines);
    const table = new DataTable<Series>({ caption: "layers", id: (row) => row.id, filename: `${this.run}-layers`, most: 30,
      columns: [
        { key: "layer", head: "layer", value: (row) => row.name, cell: (row) => h("span", { class: "named" }, h("span", { class: "line-mark", "--of": row.colour }), row.name) },
        { key: "at", head: "here", numeric: true, value: last, cell: (row) => decimal(last(row), 4) },
      ], onPoint: (row) => chart.highlight(row?.id ?? null), onSelect: () => undefined });
    table.setRows(lines);
    const fill = (x: number | null) => {
      for (const one of lines) {
        const cell = table.cellOf(one.id, "at");
        if (cell) cell.textContent = decimal(x === null ? last(one) : one.points.find((point) => point[0] === x)?.[1], 4);
      }
    };
    replace(this.element, h("h2", {}, "Layers, epoch by epoch"), labelled("show", choice(quantities, quantity, (value) => change({ layers: value }))),
            h("div", { class: "two wide-left" }, chart.element, table.element));
  }
}
