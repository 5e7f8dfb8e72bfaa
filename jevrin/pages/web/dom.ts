// Elements from plain calls. Text is always text: no name of a class or file becomes markup.

export type Child = Node | string | number | null | undefined | false;
type Value = string | number | boolean | null | undefined | ((event: any) => void);
export type Attributes = { [name: string]: Value };

const svgNamespace = "http://www.w3.org/2000/svg";

function fill(element: Element, attributes: Attributes, children: Child[]): void {
  for (const [name, value] of Object.entries(attributes)) {
    if (value === null || value === undefined || value === false) continue;
    if (typeof value === "function") element.addEventListener(name.replace(/^on/, ""), value);
    else if (name === "value" && "value" in element) (element as HTMLInputElement).value = String(value);
    else if (name.startsWith("--")) (element as HTMLElement).style.setProperty(name, String(value));
    else element.setAttribute(name, value === true ? "" : String(value));
  }
  for (const child of children)
    if (child !== null && child !== undefined && child !== false)
      element.append(child instanceof Node ? child : String(child));
}

export function h<K extends keyof HTMLElementTagNameMap>(tag: K, attributes: Attributes = {},
                                                         ...children: Child[]): HTMLElementTagNameMap[K] {
  const element = document.createElement(tag);
  fill(element, attributes, children);
  return element;
}

export function svg<K extends keyof SVGElementTagNameMap>(tag: K, attributes: Attributes = {},
                                                          ...children: Child[]): SVGElementTagNameMap[K] {
  const element = document.createElementNS(svgNamespace, tag);
  fill(element, attributes, children);
  return element;
}

export function replace(parent: Element, ...children: Child[]): void {
  parent.replaceChildren();
  fill(parent, {}, children);
}

// Saves bytes or text as a file of the browser, under a name that every file system takes.
export function save(title: string, ending: string, content: Blob | string, type = "text/plain"): void {
  const blob = content instanceof Blob ? content : new Blob([content], { type });
  const name = title.replace(/[^A-Za-z0-9._-]+/g, "-").slice(0, 80);
  const link = h("a", { href: URL.createObjectURL(blob), download: `${name}.${ending}` });
  document.body.append(link);
  link.click();
  link.remove();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

// What is shown while something is asked, when it failed, and when there is nothing.
export function loading(what: string): HTMLElement {
  return h("p", { class: "quiet", role: "status" }, `reading ${what} …`);
}
export function failure(error: unknown): HTMLElement {
  return h("p", { class: "failure", role: "alert" }, error instanceof Error ? error.message : String(error));
}
export function nothing(text: string): HTMLElement {
  return h("p", { class: "quiet" }, text);
}

// One label around a control.
export function labelled(text: string, control: HTMLElement): HTMLElement {
  return h("label", { class: "control" }, h("span", {}, text), control);
}

export function choice(options: [string, string][], value: string, change: (value: string) => void): HTMLSelectElement {
  const element: HTMLSelectElement = h("select", { onchange: () => change(element.value) },
                    ...options.map(([name, text]) => h("option", { value: name }, text)));
  element.value = value;
  return element;
}

export function checkbox(text: string, checked: boolean, change: (checked: boolean) => void): HTMLElement {
  const box: HTMLInputElement = h("input", { type: "checkbox", onchange: () => change(box.checked) });
  box.checked = checked;
  return h("label", { class: "control" }, box, h("span", {}, text));
}

// So many milliseconds after the last call.
export function debounced(work: () => void, milliseconds: number): () => void {
  let timer = 0;
  return () => {
    clearTimeout(timer);
    timer = window.setTimeout(work, milliseconds);
  };
}

// At most once for each frame that is drawn, with what was said last.
export function onFrame<T>(work: (value: T) => void): (value: T) => void {
  let waiting: { value: T } | null = null;
  return (value: T) => {
    if (waiting) {
      waiting.value = value;
      return;
    }
    waiting = { value };
    requestAnimationFrame(() => {
      const last = waiting!.value;
      waiting = null;
      work(last);
    });
  };
}
