// Light or dark, and colours that can be seen on either.

type Rgb = [number, number, number];

function parse(colour: string): Rgb {
  const code = parseInt(colour.slice(1), 16);
  return [(code >> 16) & 255, (code >> 8) & 255, code & 255];
}

function luminance([r, g, b]: Rgb): number {
  const linear = (part: number) => {
    const value = part / 255;
    return value <= 0.04045 ? value / 12.92 : ((value + 0.055) / 1.055) ** 2.4;
  };
  return 0.2126 * linear(r) + 0.7152 * linear(g) + 0.0722 * linear(b);
}

export function contrast(a: string, b: string): number {
  const [high, low] = [luminance(parse(a)), luminance(parse(b))].sort((x, y) => y - x);
  return (high! + 0.05) / (low! + 0.05);
}

function blended(colour: string, to: Rgb, share: number): string {
  return "#" + parse(colour).map((part, i) => Math.round(part + (to[i]! - part) * share).toString(16).padStart(2, "0")).join("");
}

const papers = { light: "#fbfaf6", dark: "#15181b" };
export type Theme = keyof typeof papers;

const prefersDark = matchMedia("(prefers-color-scheme: dark)");
let now: Theme = prefersDark.matches ? "dark" : "light";
let isStated = false;

export function theme(): Theme {
  return now;
}

// What was chosen here before, or else what the system prefers; changed() when that changes.
export function startTheme(changed: () => void): void {
  try {
    const kept = localStorage.getItem("jevrin-theme");
    if (kept === "light" || kept === "dark") {
      now = kept;
      isStated = true;
    }
  } catch { /* nothing is kept */ }
  document.documentElement.dataset.theme = now;
  prefersDark.addEventListener("change", () => {
    if (isStated) return;
    now = prefersDark.matches ? "dark" : "light";
    document.documentElement.dataset.theme = now;
    changed();
  });
}

export function setTheme(to: Theme): void {
  now = to;
  isStated = true;
  document.documentElement.dataset.theme = to;
  try {
    localStorage.setItem("jevrin-theme", to);
  } catch { /* not kept */ }
}

// The colour, lighter or darker as far as a line of it needs to be seen (WCAG 2.1, 1.4.11: contrast 3).
const readable = new Map<string, string>();
export function onPaper(colour: string): string {
  const key = now + colour;
  let result = readable.get(key);
  if (!result) {
    result = colour;
    const to: Rgb = now === "dark" ? [255, 255, 255] : [0, 0, 0];
    for (let share = 0.05; contrast(result, papers[now]) < 3 && share <= 1; share += 0.05) result = blended(colour, to, share);
    readable.set(key, result);
  }
  return result;
}

// Cells of a matrix: from the paper to a full tone, of what is right and of what is wrong.
const tones: Record<Theme, { right: Rgb; wrong: Rgb; paper: Rgb }> = {
  light: { right: [0, 92, 122], wrong: [190, 72, 0], paper: [251, 250, 246] },
  dark: { right: [92, 190, 220], wrong: [255, 140, 60], paper: [21, 24, 27] },
};
function cellTone(share: number, right: boolean): Rgb {
  const { [right ? "right" : "wrong"]: full, paper } = tones[now];
  const weight = share <= 0 ? 0 : 0.08 + 0.92 * Math.sqrt(Math.min(1, share));
  return [0, 1, 2].map((i) => Math.round(paper[i]! + (full[i]! - paper[i]!) * weight)) as Rgb;
}

// Of shares in steps of 1/1000, as pixels of an image (red in the lowest byte) and the ink that can be read on them:
// a matrix of 200 classes has 40,000 of them.
export const toneSteps = 1000;
export interface Tones { pixels: Uint32Array; inks: string[] }
const prepared = new Map<string, Tones>();
export function cellTones(right: boolean): Tones {
  const key = `${now} ${right}`;
  let result = prepared.get(key);
  if (!result) {
    result = { pixels: new Uint32Array(toneSteps + 1), inks: [] };
    for (let step = 0; step <= toneSteps; ++step) {
      const tone = cellTone(step / toneSteps, right);
      result.pixels[step] = (255 << 24) | (tone[2] << 16) | (tone[1] << 8) | tone[0];
      result.inks.push(inkOn(tone));
    }
    prepared.set(key, result);
  }
  return result;
}
function inkOn(cell: Rgb): string {
  return luminance(cell) > 0.22 ? "#10130f" : "#ffffff";
}
