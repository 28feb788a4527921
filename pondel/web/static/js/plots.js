// Shared by the pictures: sizes, inks, the frequency axis.

const SVG = "http://www.w3.org/2000/svg";

/** An SVG element with attributes. */
export function draw(name, attributes = {}, text = "") {
  const element = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  if (text) element.textContent = text;
  return element;
}

/** A canvas at the screen's own resolution, with a reader for the sheet's colours. */
export function sized(canvas) {
  const { width, height } = canvas.getBoundingClientRect();
  const ratio = devicePixelRatio || 1;
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  const context = canvas.getContext("2d");
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  const style = getComputedStyle(document.documentElement);
  return { context, width, height, css: (name) => style.getPropertyValue(name).trim() };
}

/**
 * Put the needle of a picture at a share of its width; the drawing below stays as it is.
 * `area` is where the picture lies in its box: nothing is measured here, as this happens in every frame.
 */
export function pointNeedle(place, share, { left, width, height }) {
  let needle = place.querySelector(".needle");
  if (!needle) {
    needle = document.createElement("div");
    needle.className = "needle";
    place.append(needle);
  }
  needle.hidden = share < 0 || share > 1;
  needle.style.height = `${height}px`;
  needle.style.transform = `translateX(${left + share * width - 1}px)`;
}

/** Write a text only when it is another one. */
export function write(place, text) {
  if (place.textContent !== text) place.textContent = text;
}

export function clear(context, width, height) {
  context.clearRect(0, 0, width, height);
}

export const MARKS_HZ = [20, 30, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000];

/** Whether there is room for a mark's word beside the one at the right end. */
export const hasRoom = (hz, x) => hz !== 10000 || x(20000) - x(10000) > 52;

/** A frequency as the trade writes it on an axis. */
export const axisWord = (hz) => (hz >= 1000 ? `${hz / 1000}k` : String(hz));

/** A frequency in words. */
export function hzWord(hz) {
  if (hz < 999.5) return `${hz.toFixed(0)} Hz`;
  return `${(hz / 1000).toFixed(hz < 9950 ? 2 : 1)} kHz`;
}

/** From frequency to a share of the width: logarithmic, or with 20 to 250 Hz over half of it. */
export function scaleHz(spread) {
  const low = Math.log(20);
  const high = Math.log(20000);
  if (!spread) return (hz) => (Math.log(hz) - low) / (high - low);
  const bend = Math.log(250);
  return (hz) => {
    const at = Math.log(hz);
    return at <= bend ? (0.5 * (at - low)) / (bend - low) : 0.5 + (0.5 * (at - bend)) / (high - bend);
  };
}

/** Whether the lows take half of the width. */
export const spreadLows = () => localStorage.getItem("pondel-spread") === "1";

/** From which hidden share on lines are drawn, the densest first, and how far apart they are. */
export const HATCH_LEAST = [0.7, 0.45, 0.2];
const HATCH_GAPS = [4, 7, 12];
const INKS = 8;

/** Hatching in every ink and density, once for the page: fill with `url(#ink-hatch-INK-LEVEL)`. */
export function hatchPatterns() {
  if (document.getElementById("ink-hatches")) return;
  const svg = draw("svg", { id: "ink-hatches", width: 0, height: 0, "aria-hidden": "true", class: "absolute" });
  const defs = draw("defs");
  for (let ink = 1; ink <= INKS; ink++) {
    HATCH_GAPS.forEach((gap, level) => {
      const pattern = draw("pattern", { id: `ink-hatch-${ink}-${level}`, width: gap, height: gap, patternUnits: "userSpaceOnUse", patternTransform: "rotate(-45)", class: `ink-${ink}` });
      pattern.append(draw("line", { x1: 0, x2: gap, y1: 0, y2: 0, stroke: "var(--c)", "stroke-width": 1.7 }));
      defs.append(pattern);
    });
  }
  svg.append(defs);
  document.body.append(svg);
}
