// The network of a run: layers in the order in which they are computed, what trains, and what a picture makes of
// them.
import { ask, isReport } from "../data";
import { Page, View, bestRun, mark, rowOf } from "../page";
import { change, Params } from "../address";
import { thumbnail, Item } from "../pictures";
import { h, svg, replace, failure, loading, choice, nothing } from "../dom";
import { count, decimal, percent, plural } from "../format";

interface Layer { layer: string; stage: string; operators: string; shape: number[]; parameters: number; multiplications: number; trains: boolean; reads: number[] }
interface Network { run: string; regime: string; input: number[]; parameters: number; trainable_parameters: number; layers: Layer[] }
interface Stage { stage: string; layer: string; shape: number[]; mean: number; deviation: number; zeros: number; silent: number; label: string; maps: string[] }

const rowHeight = 46;
const shapeText = (shape: number[]) => shape.join("×");

export function networkView(main: HTMLElement, page: Page): View {
  const heading = h("header", { class: "run-head" });
  const graph = h("section", { class: "graph" });
  const side = h("section", { class: "activations" });
  main.append(heading, h("div", { class: "two" }, graph, side));
  let params = new Params();
  let network: Network | null = null;
  let shown = "";
  let asked = 0;

  const run = () => params.text("run") || bestRun({ ...page.study, runs: page.study.runs.filter((row) => row.state === "finished") })?.run || "";

  // Layers below each other; what skips some goes round on the left.
  const drawGraph = () => {
    const { layers } = network!;
    const chosen = params.text("layer");
    const skips = layers.flatMap((layer, i) => layer.reads.filter((from) => from !== i - 1).map((from) => [from, i] as const));
    const lanes: number[] = [];
    const laneOf = skips.map(([from, to]) => {
      let lane = lanes.findIndex((end) => end <= from);
      if (lane < 0) lane = lanes.length < 6 ? lanes.push(0) - 1 : 5;
      lanes[lane] = to;
      return lane;
    });
    const left = 14 + 9 * Math.max(0, lanes.length);
    const wires = svg("svg", { class: "wires", width: left, height: layers.length * rowHeight, "aria-hidden": "true" },
      ...layers.map((layer, i) => (i > 0 && layer.reads.includes(i - 1) ? svg("line", { x1: left - 4, x2: left - 4, y1: (i - 0.35) * rowHeight, y2: (i + 0.2) * rowHeight }) : null)),
      ...skips.map(([from, to], k) => {
        const x = left - 10 - 9 * laneOf[k]!;
        const [y1, y2] = [(from + 0.5) * rowHeight, (to + 0.5) * rowHeight];
        return svg("path", { d: `M${left} ${y1}H${x + 4}Q${x} ${y1} ${x} ${y1 + 4}V${y2 - 4}Q${x} ${y2} ${x + 4} ${y2}H${left}` });
      }));
    let stage = "";
    const boxes = h("ol", { class: "layers", "--left": `${left}px` }, ...layers.map((layer) => {
      const first = layer.stage !== stage;
      stage = layer.stage;
      return h("li", { class: first ? "stage-begins" : null },
        h("button", { type: "button", class: `layer ${layer.parameters === 0 ? "plain" : layer.trains ? "trains" : "frozen"}${layer.layer === chosen ? " chosen" : ""}`,
                      "aria-pressed": layer.layer === chosen, onclick: () => change({ layer: layer.layer === chosen ? null : layer.layer }) },
          h("span", { class: "layer-name" }, layer.layer), h("span", { class: "layer-shape number" }, shapeText(layer.shape)),
          h("span", { class: "layer-does" }, layer.operators),
          h("span", { class: "layer-size number" }, layer.parameters ? `${count(layer.parameters)} ${layer.trains ? "trained" : "frozen"}` : "")));
    }));
    replace(graph, h("div", { class: "scroll tall" }, h("div", { class: "graph-body" }, wires, boxes)));
  };

  const drawSide = async () => {
    const mine = ++asked;
    if (isReport) return replace(side, h("h2", {}, "Activations"), nothing("The live page shows the activations of any picture."));
    try {
      const { items } = await ask<{ items: Item[] }>("items", { run: run() });
      const item = params.text("item") || items[0]?.[0] || "";
      const place = items.findIndex((one) => one[0] === item);
      const to = (at: number) => change({ item: items[at]?.[0] ?? null });
      const { classes } = page.study;
      const picture = items[place];
      const head = h("div", { class: "controls" }, thumbnail(item, 96, "the picture"),
        h("div", {}, h("p", {}, picture ? `${classes[picture[1]]}, predicted ${classes[picture[2]]}` : item),
          h("button", { type: "button", class: "small", disabled: place <= 0, onclick: () => to(place - 1) }, "previous"), " ",
          h("button", { type: "button", class: "small", disabled: place < 0 || place >= items.length - 1, onclick: () => to(place + 1) }, "next")));
      replace(side, h("h2", {}, "Activations"), head, loading("its activations"));
      const layer = params.text("layer");
      const { stages } = await ask<{ stages: Stage[] }>("activations", layer ? { run: run(), item, layer } : { run: run(), item });
      if (mine !== asked) return;
      replace(side, h("h2", {}, layer ? `Activations of ${layer}` : "Activations, stage by stage"), head,
        ...stages.map((one) => h("section", { class: "stage" }, h("h3", {}, layer ? one.layer : one.stage, h("span", { class: "quiet" }, ` ${shapeText(one.shape)}`)),
          h("p", { class: "quiet small number" }, `mean ${decimal(one.mean)}, deviation ${decimal(one.deviation)}, zeros ${percent(one.zeros)}, silent channels ${percent(one.silent)}`),
          one.maps.length ? h("ul", { class: "gallery" }, ...one.maps.map((map) => h("li", {}, h("img", { src: map, alt: `a map of ${one.stage}`, width: 72, height: 72, class: "pixels" })))) : h("p", { class: "quiet small" }, "a vector"))));
    } catch (error) {
      if (mine === asked) replace(side, failure(error));
    }
  };

  const draw = async () => {
    const wanted = run();
    if (!wanted) return replace(heading, h("h1", {}, "Network"), nothing("The network is shown when a run is finished."));
    shown = wanted;
    const names: [string, string][] = page.study.runs.filter((row) => row.state === "finished").map((row) => [row.run, row.run]);
    const row = rowOf(page.study, wanted);
    const picker = h("div", { class: "controls" }, row ? mark(page.study, row.candidate) : null, choice(names, wanted, (value) => change({ run: value, layer: null })));
    if (!network) replace(heading, picker, loading("the network"));
    try {
      const answer = await ask<Network>("network", { run: wanted });
      if (shown !== wanted) return;
      network = answer;
      const trained = network.layers.filter((one) => one.trains).length;
      replace(heading, picker, h("h1", {}, `${count(network.trainable_parameters)} of ${count(network.parameters)} parameters train, in ${plural(trained, "layer")} of ${network.layers.length}`),
              h("p", { class: "quiet" }, `${network.regime}; images of ${shapeText(network.input)}; orange trains, grey is frozen`));
      drawGraph();
      void drawSide();
    } catch (error) {
      if (shown === wanted) replace(heading, picker, h("h1", {}, "Network"), failure(error));
    }
  };

  return {
    show(to) {
      params = to;
      if (network && shown === run()) {
        drawGraph();
        return drawSide();
      }
      network = null;
      return draw();
    },
    news(news) {
      if (!news || !network) void draw();
    },
  };
}
