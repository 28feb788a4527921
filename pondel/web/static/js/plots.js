// Shared by the pictures: sizes, inks, the marks of the frequency axis, the read-out.
import { HIGHEST_HZ, LOWEST_HZ, MARKS_HZ, axisWord, frequencyAxis, hasRoom, isStrong } from "./axis.js";

const SVG = "http://www.w3.org/2000/svg";

/** An SVG element with attributes. */
export function draw(name, attributes = {}, text = "") {
  const element = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  if (text) element.textContent = text;
  return element;
}

/**
 * The drawing of a place, emptied to be drawn anew. It is the same element each time: one that takes the place of
 * another is laid out and painted from nothing, with all that lies over it.
 * @param {Element} place @param {{width: number, height: number}} size @param {Record<string, string>} [attributes]
 */
export function emptied(place, { width, height }, attributes = {}) {
  const last = place.querySelector(`:scope > svg${attributes.class ? `.${attributes.class}` : ":not([class])"}`);
  const svg = last ?? draw("svg", attributes);
  const all = `0 0 ${width} ${height}`;
  if (svg.getAttribute("viewBox") !== all) svg.setAttribute("viewBox", all);
  svg.replaceChildren();
  return svg;
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

/**
 * The marks of the frequency axis with their words below.
 * @param {Element} svg @param {{x: (hz: number) => number, top: number, base: number, words?: number, first?: string}} place
 */
export function frequencyMarks(svg, { x, top, base, words = base + 14, first = "middle" }) {
  for (const hz of MARKS_HZ) {
    svg.append(draw("line", { x1: x(hz), x2: x(hz), y1: top, y2: base, class: `grid-line${isStrong(hz) ? " strong" : ""}` }));
    if (!words || !hasRoom(hz, x)) continue;
    const anchor = hz === HIGHEST_HZ ? "end" : hz === LOWEST_HZ ? first : "middle";
    svg.append(draw("text", { x: x(hz), y: words, class: "axis", "text-anchor": anchor }, hz === HIGHEST_HZ ? "20k Hz" : axisWord(hz)));
  }
}

/** A zone as a marked band between two edges. */
export function zoneBand(svg, { low, high, top, base }) {
  svg.append(draw("rect", { x: low, width: Math.max(1, high - low), y: top, height: base - top, class: "zone" }));
  for (const x of [low, high]) svg.append(draw("line", { x1: x, x2: x, y1: top, y2: base, class: "zone-edge" }));
}

/** What lies at the cursor of a picture, in words that are read out; null takes them away. */
export function readout(box, text) {
  let note = box.querySelector(".readout");
  if (text == null) {
    note?.remove();
    return;
  }
  if (!note) {
    note = document.createElement("div");
    note.className = "readout num";
    note.setAttribute("role", "status");
    box.append(note);
  }
  note.textContent = text;
}

/** Whether the lows take half of the width. */
export const spreadLows = () => localStorage.getItem("pondel-spread") === "1";

/** The frequency axis as it is wanted now. */
export const axisNow = () => frequencyAxis(spreadLows());
