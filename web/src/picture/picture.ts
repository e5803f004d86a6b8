import { pointed } from "../lanes/cursor";
import { save } from "./save";

/* A picture of a page, or of one lane, with its time axis. What lanes draw themselves is SVG
   already; charts are canvases on the screen and are put in as pictures of them for PNG, and drawn
   anew as paths for SVG. */

const space = "http://www.w3.org/2000/svg";

/** Those who draw on a canvas say here how it looks as SVG. */
export const asVector = new WeakMap<Element, () => SVGElement>();

const margin = 12;

/** Saves a picture of the lane with an index, or of all lanes without one. */
export async function savePicture(form: "svg" | "png", name: string, index?: number) {
  const svg = picture(index);
  const text = new XMLSerializer().serializeToString(svg);
  if (form === "svg") {
    save(new Blob([text], { type: "image/svg+xml" }), `${name}.svg`);
    return;
  }
  save(await rastered(text, svg.width.baseVal.value, svg.height.baseVal.value), `${name}.png`);
}

/** The picture as SVG. */
export function picture(index?: number): SVGSVGElement {
  const all = [...document.querySelectorAll<HTMLElement>("[data-lane]")];
  const lanes = index === undefined ? all : all.filter((l) => Number(l.dataset.index) === index);
  const axis = document.querySelector<HTMLElement>("[data-axis]");
  const width = (axis?.clientWidth ?? 800) + 2 * margin;
  const svg = document.createElementNS(space, "svg");
  const hatching = document.querySelector("#hatching defs");
  if (hatching) svg.append(hatching.cloneNode(true));
  let y = margin;
  const words = (text: string, size: number, weight = 400, colour = "--ink", indent = 0) => {
    const t = document.createElementNS(space, "text");
    t.setAttribute("x", String(margin + indent));
    t.setAttribute("y", String(y + size));
    t.setAttribute("font-size", String(size));
    t.setAttribute("font-weight", String(weight));
    t.setAttribute("fill", `var(${colour})`);
    t.textContent = text;
    svg.append(t);
    y += size + 5;
  };
  const says = document.querySelector<HTMLElement>("[data-says]");
  const heading = document.querySelector("main h1")?.textContent;
  if (heading) words(heading, 16, 600);
  if (says?.dataset.range) words(says.dataset.range, 12);
  const put = (part: SVGElement, high: number) => {
    const g = document.createElementNS(space, "g");
    g.setAttribute("transform", `translate(${margin} ${y})`);
    g.append(part);
    svg.append(g);
    return high;
  };
  if (axis)
    for (const part of axis.querySelectorAll<SVGElement>("svg[data-picture]"))
      y += put(copied(part), axis.clientHeight);
  for (const lane of lanes) {
    words(
      [lane.querySelector("h2")?.textContent, lane.querySelector("h2 + p")?.textContent]
        .filter(Boolean)
        .join(" · "),
      12,
      600,
    );
    const plot = lane.querySelector<HTMLElement>("[data-plot]");
    if (!plot) {
      words(lane.textContent ?? "", 12);
      continue;
    }
    for (const part of plot.querySelectorAll<SVGElement>("svg[data-picture]")) put(copied(part), 0);
    for (const chart of plot.querySelectorAll("[data-chart]")) {
      const draw = asVector.get(chart);
      if (draw) put(draw(), 0);
    }
    for (const label of plot.querySelectorAll<HTMLElement>("[data-label]")) {
      const t = document.createElementNS(space, "text");
      t.setAttribute("x", label.style.left.replace("px", ""));
      t.setAttribute("y", String(Number.parseFloat(label.style.top) + 12));
      t.setAttribute("font-size", "11");
      t.setAttribute("fill", label.style.color);
      t.textContent = label.textContent;
      put(t, 0);
    }
    y += plot.clientHeight + 6;
    for (const { text, hue } of figuresOf(lane, width)) {
      put(dash(hue), 0);
      words(text, 11, 400, "--ink", 18);
    }
    y += 6;
  }
  words(says?.textContent ?? "", 11, 400, "--soft");
  y += margin;
  svg.setAttribute("xmlns", space);
  svg.setAttribute("width", String(width));
  svg.setAttribute("height", String(y));
  svg.setAttribute("viewBox", `0 0 ${width} ${y}`);
  svg.setAttribute("font-family", "Atkinson Hyperlegible, Source Sans 3, Noto Sans, sans-serif");
  const paper = document.createElementNS(space, "rect");
  paper.setAttribute("width", "100%");
  paper.setAttribute("height", "100%");
  paper.setAttribute("fill", "var(--sheet)");
  svg.prepend(paper);
  resolve(svg);
  return svg;
}

interface Figures {
  text: string;
  /** The colour of the line that the figures are of; none for what is written below them. */
  hue: string;
}

const letter = 6; // px of a letter at 11 px, about

/** What the legend of a lane says in figures, a line or more for each series. */
function figuresOf(lane: HTMLElement, width: number): Figures[] {
  return [...lane.querySelectorAll<HTMLElement>("[data-row]")].flatMap((row): Figures[] => {
    const clean = (part: Element | null | undefined) => (part?.textContent ?? "").replace(/\s+/g, " ").trim();
    const name = row.dataset.row ?? "";
    const facts = [...row.querySelectorAll("[data-fact]")].map(clean);
    // Under a cursor the figure is another moment's.
    if (pointed.at === null) facts.unshift(`last ${clean(row.querySelector("[data-present]"))}`);
    const lines: string[] = [name];
    for (const fact of facts) {
      const line = `${lines[lines.length - 1] ?? ""} · ${fact}`;
      if (line.length * letter < width - 2 * margin - 18) lines[lines.length - 1] = line;
      else lines.push(fact);
    }
    const hue = row.querySelector<HTMLElement>("[data-hue]")?.style.background;
    return lines.map((text, i) => ({ text, hue: i === 0 ? hue || "var(--soft)" : "none" }));
  });
}

/** A short line in the colour of a series. */
function dash(hue: string): SVGElement {
  const line = document.createElementNS(space, "rect");
  line.setAttribute("y", "4");
  line.setAttribute("width", "12");
  line.setAttribute("height", "2");
  line.setAttribute("fill", hue);
  return line;
}

function copied(part: SVGElement): SVGElement {
  const copy = part.cloneNode(true) as SVGElement;
  copy.removeAttribute("class");
  return copy;
}

/** Puts the colours in for the tokens, as a picture has no style sheet. */
function resolve(svg: SVGElement) {
  const style = getComputedStyle(document.documentElement);
  for (const part of [svg, ...svg.querySelectorAll<SVGElement>("*")])
    for (const name of ["fill", "stroke"]) {
      const found = /var\((--[\w-]+)\)/.exec(part.getAttribute(name) ?? "");
      if (found?.[1]) part.setAttribute(name, style.getPropertyValue(found[1]).trim());
    }
}

async function rastered(text: string, width: number, height: number): Promise<Blob> {
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(text)}`;
  await image.decode();
  const scale = 2;
  const canvas = document.createElement("canvas");
  canvas.width = Math.ceil(width * scale);
  canvas.height = Math.ceil(height * scale);
  const context = canvas.getContext("2d");
  if (!context) throw new Error("this browser draws no pictures");
  context.scale(scale, scale);
  context.drawImage(image, 0, 0);
  return new Promise((done, failed) =>
    canvas.toBlob(
      (blob) => (blob ? done(blob) : failed(new Error("this browser writes no PNG"))),
      "image/png",
    ),
  );
}
