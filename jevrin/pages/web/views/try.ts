// Try it: images that are dropped, pasted, chosen or filmed, and what each chosen run says of them.
import { isReport, sendImage } from "../data";
import { Page, View, bestRun, candidateName, mark, rowOf, runsCalled, shortened } from "../page";
import { change, Params } from "../address";
import { h, replace, failure, nothing, checkbox } from "../dom";
import { decimal, percent } from "../format";

interface Answer { run: string; probabilities: number[]; distance: number | null; unknown: boolean | null }
interface Answers { answers: Answer[]; test_image: boolean }

const longestSide = 1024;   // larger images are made smaller before they are sent
const mostImages = 40;
const mostRuns = 12;

export function tryView(main: HTMLElement, page: Page): View {
  const heading = h("header");
  const drop = h("div", { class: "drop" });
  const runsBox = h("section");
  const answers = h("section", { class: "answers" });
  main.append(heading, h("div", { class: "two" }, h("div", {}, drop, answers), runsBox));
  let params = new Params();
  let stream: MediaStream | null = null;
  const video = h("video", { muted: true, playsinline: true, class: "camera" });
  const live = h("div", { class: "answer-rows", "aria-live": "off" });
  const rate = h("span", { class: "quiet number" });

  const finished = () => page.study.runs.filter((row) => row.state === "finished");
  // Those that are chosen, or the best of each candidate.
  const runs = (): string[] => {
    const named = runsCalled(page.study, params.list("runs")).filter((run) => rowOf(page.study, run)?.state === "finished");
    if (named.length) return named.slice(0, mostRuns);
    return page.study.candidates.flatMap((one) => bestRun({ ...page.study, runs: finished() }, one.candidate)?.run ?? []).slice(0, 4);
  };

  const classify = (image: Blob) => sendImage<Answers>(`api/classify?runs=${encodeURIComponent(JSON.stringify(runs()))}`, image);

  const answerRow = (answer: Answer): HTMLElement => {
    const row = rowOf(page.study, answer.run);
    const order = answer.probabilities.map((probability, c) => [probability, c] as const).sort((a, b) => b[0] - a[0]).slice(0, 3);
    return h("div", { class: "answer-row" }, h("p", { class: "named", title: answer.run }, row ? mark(page.study, row.candidate) : null, " ", shortened(answer.run, 30)),
             h("p", { class: "small" }, answer.unknown ? h("strong", { class: "is-wrong" }, ` resembles nothing in training (${decimal(answer.distance, 1)} times the limit)`)
               : answer.distance !== null ? h("span", { class: "quiet" }, ` in distribution (${decimal(answer.distance, 2)} of the limit)`) : null),
             h("table", { class: "bars" }, h("tbody", {}, ...order.map(([probability, c]) => h("tr", {}, h("th", { scope: "row" }, page.study.classes[c] ?? "?"),
               h("td", {}, h("span", { class: "bar right", "--share": `${100 * probability}%` })), h("td", { class: "number" }, percent(probability)))))));
  };

  // An image no larger than any network takes; what the browser cannot decode is sent as it is.
  const prepared = async (file: Blob): Promise<Blob> => {
    try {
      const bitmap = await createImageBitmap(file);
      const scale = Math.min(1, longestSide / Math.max(bitmap.width, bitmap.height));
      if (scale === 1) return file;
      const canvas = h("canvas", { width: Math.round(bitmap.width * scale), height: Math.round(bitmap.height * scale) });
      canvas.getContext("2d")!.drawImage(bitmap, 0, 0, canvas.width, canvas.height);
      return await new Promise<Blob>((done) => canvas.toBlob((blob) => done(blob ?? file), "image/png"));
    } catch {
      return file;
    }
  };

  const add = async (files: Iterable<File>) => {
    for (const file of [...files].slice(0, mostImages)) {
      const rows = h("div", { class: "answer-rows" }, h("p", { class: "quiet", role: "status" }, "asking …"));
      const image = h("img", { src: URL.createObjectURL(file), alt: file.name, width: 120 });
      image.addEventListener("error", () => image.replaceWith(h("span", { class: "no-picture", "--side": "120px" }, "this browser cannot show it")));
      answers.prepend(h("article", { class: "tried" }, h("div", {}, image, h("p", { class: "said" }, file.name)), rows));
      while (answers.children.length > mostImages) answers.lastElementChild!.remove();
      try {
        const answer = await classify(await prepared(file));
        replace(rows, ...answer.answers.map(answerRow), answer.test_image ? h("p", { class: "failure" }, "This image is in the sealed test part: the ledger counts that it was looked at.") : null);
      } catch (error) {
        replace(rows, failure(error));
      }
    }
  };

  const stopCamera = () => {
    for (const track of stream?.getTracks() ?? []) track.stop();
    stream = null;
    drawDrop();
  };
  const startCamera = async () => {
    try {
      stream = await navigator.mediaDevices.getUserMedia({ video: { width: 640, height: 480 } });
    } catch (error) {
      drop.append(failure(error instanceof Error ? `no camera: ${error.message}` : "no camera"));
      return;
    }
    video.srcObject = stream;
    await video.play();
    drawDrop();
    const canvas = h("canvas");
    const times: number[] = [];
    const mine = stream;
    while (stream === mine && stream) {
      const side = Math.min(video.videoWidth, video.videoHeight);
      if (!side) {
        await new Promise((done) => setTimeout(done, 50));
        continue;
      }
      canvas.width = canvas.height = Math.min(256, side);
      canvas.getContext("2d")!.drawImage(video, (video.videoWidth - side) / 2, (video.videoHeight - side) / 2, side, side, 0, 0, canvas.width, canvas.height);
      const blob = await new Promise<Blob | null>((done) => canvas.toBlob(done, "image/jpeg", 0.92));
      if (!blob || stream !== mine) continue;
      const begun = performance.now();
      try {
        const answer = await classify(blob);
        replace(live, ...answer.answers.map(answerRow));
      } catch (error) {
        replace(live, failure(error));
        stopCamera();
        return;
      }
      const now = performance.now();
      times.push(now);
      while (times.length > 20) times.shift();
      const perSecond = times.length > 1 ? ((times.length - 1) * 1000) / (now - times[0]!) : 0;
      rate.textContent = `${perSecond.toFixed(1)} images a second`;
      rate.dataset.rate = perSecond.toFixed(2);
      await new Promise((done) => setTimeout(done, Math.max(0, 50 - (now - begun))));
    }
  };

  const drawDrop = () => {
    const input = h("input", { type: "file", accept: "image/*,.tif,.tiff", multiple: true, "aria-label": "choose images" });
    input.addEventListener("change", () => void add(input.files ?? []));
    replace(drop, h("p", {}, "Drop images here, paste one, or choose files."), h("div", { class: "controls" }, input,
      h("button", { type: "button", onclick: () => (stream ? stopCamera() : void startCamera()) }, stream ? "stop the camera" : "use the camera"), stream ? rate : null),
      stream ? h("div", { class: "tried" }, video, live) : null);
  };
  const onPaste = (event: ClipboardEvent) => void add([...(event.clipboardData?.files ?? [])].filter((file) => file.type.startsWith("image/")));
  const over = (event: DragEvent) => {
    event.preventDefault();
    drop.classList.toggle("over", event.type === "dragover");
    if (event.type === "drop") void add(event.dataTransfer?.files ?? []);
  };

  const draw = () => {
    const chosen = new Set(runs());
    if (isReport) return replace(heading, h("h1", {}, "Try it"), nothing("A report does not classify; the live page does."));
    replace(heading, h("h1", {}, finished().length ? "What the runs say of an image of yours" : "Try it"),
            finished().length ? h("p", { class: "quiet" }, "Images go to the server of this page only, and are not kept.") : nothing("Images can be classified when a run is finished."));
    const groups = new Map<string, string[]>();
    for (const row of finished()) groups.set(row.candidate, [...(groups.get(row.candidate) ?? []), row.run]);
    replace(runsBox, h("h2", {}, `Runs that are asked (${chosen.size} of at most ${mostRuns})`), ...[...groups].map(([candidate, list]) => h("fieldset", {}, h("legend", {}, candidateName(page.study, candidate)),
      ...list.map((run) => checkbox(`seed ${rowOf(page.study, run)!.seed}${rowOf(page.study, run)!.fold ? `, fold ${rowOf(page.study, run)!.fold}` : ""}`, chosen.has(run), (on) => {
        const next = new Set(chosen);
        if (on) next.add(run);
        else next.delete(run);
        change({ runs: [...next] });
      })))));
  };

  if (!isReport) {
    for (const event of ["dragover", "dragleave", "drop"] as const) drop.addEventListener(event, over);
    document.addEventListener("paste", onPaste);
    drawDrop();
  }
  return {
    show(to) {
      params = to;
      draw();
    },
    news(news) {
      if (!news || news.runs.some((row) => row.state === "finished")) draw();
    },
    close() {
      stopCamera();
      document.removeEventListener("paste", onPaste);
    },
  };
}
