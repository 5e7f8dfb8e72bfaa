// Where the page is: "#/VIEW?name=value". Lists are JSON arrays, so that names may hold anything.

export class Params {
  constructor(private readonly values: Map<string, string> = new Map()) {}

  text(name: string, otherwise = ""): string {
    return this.values.get(name) ?? otherwise;
  }
  number(name: string, otherwise: number): number {
    const value = this.values.get(name);
    const parsed = value === undefined || value === "" ? NaN : Number(value);
    return isFinite(parsed) ? parsed : otherwise;
  }
  list(name: string): string[] {
    try {
      const parsed: unknown = JSON.parse(this.values.get(name) ?? "[]");
      return Array.isArray(parsed) ? parsed.filter((one): one is string => typeof one === "string") : [];
    } catch {
      return [];
    }
  }
  is(name: string): boolean {
    return this.values.get(name) === "yes";
  }
  // With some values changed; null and empty ones are left out.
  with(changes: Changes): Params {
    const values = new Map(this.values);
    for (const [name, value] of Object.entries(changes)) {
      const text = Array.isArray(value) ? (value.length ? JSON.stringify(value) : "")
                 : value === true ? "yes" : value === false || value === null || value === undefined ? "" : String(value);
      if (text === "") values.delete(name);
      else values.set(name, text);
    }
    return new Params(values);
  }
  toString(): string {
    return [...this.values].map(([name, value]) => `${encodeURIComponent(name)}=${encodeURIComponent(value)}`).join("&");
  }
}
export type Changes = { [name: string]: string | number | boolean | string[] | null | undefined };

export interface Place {
  view: string;
  params: Params;
}

export function parsePlace(hash: string): Place {
  const text = hash.replace(/^#\/?/, "");
  const mark = text.indexOf("?");
  const values = new Map<string, string>();
  if (mark >= 0)
    for (const [name, value] of new URLSearchParams(text.slice(mark + 1))) values.set(name, value);
  let view = mark >= 0 ? text.slice(0, mark) : text;
  try {
    view = decodeURIComponent(view);
  } catch { /* as it stands */ }
  return { view: view || "study", params: new Params(values) };
}

export function addressOf(view: string, params: Params | Changes = {}): string {
  const query = (params instanceof Params ? params : new Params().with(params)).toString();
  return `#/${view}${query ? "?" + query : ""}`;
}

export function here(): Place {
  return parsePlace(location.hash);
}

// To another place, which Back leaves again.
export function go(view: string, params: Params | Changes = {}): void {
  const address = addressOf(view, params);
  if (address !== location.hash) location.hash = address;
}

// What changed of this place while something was dragged: Back does not stop at it.
export function amend(changes: Changes): void {
  const place = here();
  history.replaceState(null, "", addressOf(place.view, place.params.with(changes)));
}

// The same view with other parameters.
export function change(changes: Changes): void {
  const place = here();
  go(place.view, place.params.with(changes));
}
