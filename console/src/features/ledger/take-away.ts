/** Charts as files: the drawing with the colours and letters it has on the page. */

const KEPT = ["fill", "stroke", "color", "font-family", "font-size", "font-weight", "opacity", "fill-opacity", "stroke-width"] as const;

function alone(svg: SVGSVGElement): { text: string; width: number; height: number } {
  const copy = svg.cloneNode(true) as SVGSVGElement;
  const originals = [svg, ...svg.querySelectorAll<SVGElement>("*")];
  [copy, ...copy.querySelectorAll<SVGElement>("*")].forEach((element, n) => {
    const original = originals[n];
    if (!original || element.tagName === "style") return;
    const style = getComputedStyle(original);
    for (const name of KEPT) {
      element.removeAttribute(name); // it may name a colour of the page's theme
      element.style.setProperty(name, style.getPropertyValue(name));
    }
    if (element.tagName === "a") element.removeAttributeNS("http://www.w3.org/1999/xlink", "href");
  });
  const { width, height } = svg.getBoundingClientRect();
  const ground = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  ground.setAttribute("width", "100%");
  ground.setAttribute("height", "100%");
  ground.setAttribute("fill", getComputedStyle(document.documentElement).getPropertyValue("--sheet").trim());
  copy.prepend(ground);
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  return { text: new XMLSerializer().serializeToString(copy), width, height };
}

function save(blob: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

export async function takeSvg(svg: SVGSVGElement, name: string): Promise<void> {
  save(new Blob([alone(svg).text], { type: "image/svg+xml" }), `${name}.svg`);
}

/** Twice as many pixels as on the page, so that it prints well. */
export async function takePng(svg: SVGSVGElement, name: string): Promise<void> {
  const { text, width, height } = alone(svg);
  const picture = new Image();
  picture.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(text)}`;
  await picture.decode();
  const canvas = document.createElement("canvas");
  canvas.width = 2 * width;
  canvas.height = 2 * height;
  canvas.getContext("2d")?.drawImage(picture, 0, 0, canvas.width, canvas.height);
  const blob = await new Promise<Blob | null>((done) => canvas.toBlob(done, "image/png"));
  if (!blob) throw new Error("The browser could not make a PNG of it; take the SVG.");
  save(blob, `${name}.png`);
}
