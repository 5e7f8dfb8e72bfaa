// Charts as files.
import { h, svg, save } from "./dom";

const looks = ["fill", "stroke", "stroke-width", "stroke-dasharray", "opacity", "fill-opacity", "stroke-opacity", "font-family", "font-size", "visibility"];

// The drawing by itself, with the looks that it has on the page.
function standalone(drawing: SVGSVGElement): string {
  const copy = drawing.cloneNode(true) as SVGSVGElement;
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  const originals = drawing.querySelectorAll<SVGElement>("*");
  copy.querySelectorAll<SVGElement>("*").forEach((element, i) => {
    const computed = getComputedStyle(originals[i]!);
    for (const property of looks) element.setAttribute(property, computed.getPropertyValue(property));
  });
  const paper = getComputedStyle(document.body).backgroundColor;
  copy.prepend(svg("rect", { width: drawing.getAttribute("width"), height: drawing.getAttribute("height"), fill: paper }));
  return new XMLSerializer().serializeToString(copy);
}

export function saveSvg(drawing: SVGSVGElement, title: string): void {
  save(title, "svg", standalone(drawing), "image/svg+xml");
}

// At twice the size of the screen.
export function savePng(drawing: SVGSVGElement, title: string): void {
  const address = URL.createObjectURL(new Blob([standalone(drawing)], { type: "image/svg+xml" }));
  const image = new Image();
  image.onload = () => {
    const canvas = h("canvas", { width: 2 * Number(drawing.getAttribute("width")), height: 2 * Number(drawing.getAttribute("height")) });
    canvas.getContext("2d")!.drawImage(image, 0, 0, canvas.width, canvas.height);
    URL.revokeObjectURL(address);
    canvas.toBlob((blob) => blob && save(title, "png", blob));
  };
  image.src = address;
}
