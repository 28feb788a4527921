// Talking to the server.
import { Few } from "./order.js";
import { state } from "./state.js";

const token = document.querySelector('meta[name="csrf"]').content;
export const page = Math.random().toString(36).slice(2, 10);
const messages = document.getElementById("messages");

/** An answer the server refused to give, with its message. */
export class Refused extends Error {
  constructor(status, message) {
    super(message);
    this.status = status;
  }
}

/** Show a message until it is put away or some seconds have passed. */
export function say(text, seconds = 9) {
  const box = document.createElement("div");
  box.className = "message";
  const line = document.createElement("span");
  line.textContent = text;
  const close = document.createElement("button");
  close.type = "button";
  close.className = "btn small";
  close.textContent = "OK";
  close.onclick = () => box.remove();
  box.append(line, close);
  messages.replaceChildren(box);
  setTimeout(() => box.remove(), seconds * 1000);
}

async function checked(response) {
  if (response.ok) return response;
  let message = `the server answered ${response.status}`;
  const text = await response.text();
  try {
    const body = JSON.parse(text);
    message = body.where ? `${body.where}: ${body.message}` : body.message;
  } catch {
    // Not one of ours: the status has to do.
  }
  throw new Refused(response.status, message);
}

/**
 * A browser keeps six connections to a server. What is worked out there in its turn, one thing after
 * another, shares two of them, so that changes and sound always find one.
 */
const inTurn = new Few(2);
let asked = 0;

/**
 * Every question has a number, and every answer carries the number of its question. The browser keeps none
 * and looks for none in what it keeps, but for sound.
 * @param {string} url @param {RequestInit} options
 */
async function reach(url, options) {
  const order = String(++asked);
  const headers = { ...options.headers, "Pondel-Order": order };
  const response = await fetch(url, { cache: "no-store", ...options, headers }).catch((error) => {
    if (error.name === "AbortError") throw error;
    throw new Refused(0, "Pondel does not answer; what was saved is safe. Start it again and reload this page.");
  });
  const answered = response.headers.get("Pondel-Order");
  if (answered !== null && answered !== order) throw new Refused(0, "An answer to another question came; what was saved is safe. Reload this page.");
  return response;
}

/** The address of something in the open session, with the view's pair, move, loop and revision. */
export function about(what, more = {}) {
  const { view, loop, facts, level, look } = state;
  const values = { page, revision: facts.revision, ...loop, level, ...look, leader: view.leader, yielder: view.yielder, ...more };
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(values)) {
    if (value == null) continue;
    for (const one of [value].flat()) query.append(name, one);
  }
  return `/sessions/${facts.id}/${what}?${query}`;
}

export async function getJSON(url, signal = undefined) {
  const headers = { Accept: "application/json" };
  for (let tries = 0; ; tries++) {
    const body = await (await checked(await reach(url, { signal, headers }))).json();
    if (body.gone) throw new DOMException("what this was about is gone", "AbortError");
    if (signal?.aborted) throw new DOMException("a newer question came first", "AbortError");
    if (!body.superseded) return body;
    // A question that was given up here may have come after this one there.
    if (tries > 5) throw new DOMException("a newer question came first", "AbortError");
    await new Promise((done) => setTimeout(done, 150));
  }
}

/** The same of what may have to wait for its turn. @param {string} url @param {AbortSignal} [signal] */
export const getInTurn = (url, signal) => inTurn.within(() => getJSON(url, signal), signal);

/** A page of the application as a document of its own, and its address; a `form` is sent there first. */
export async function getPage(url, { form = null, signal = undefined } = {}) {
  const headers = { Accept: "text/html, application/json" };
  const sent = form ? { method: "POST", headers: { ...headers, "X-CSRFToken": token }, body: form } : { headers, signal };
  const response = await checked(await reach(url, sent));
  const content = new DOMParser().parseFromString(await response.text(), "text/html");
  return { content, address: response.url, isGivenUp: response.status === 204 };
}

/** A page that may have to wait for its turn. @param {string} url @param {{signal?: AbortSignal}} options */
export const getPageInTurn = (url, options) => inTurn.within(() => getPage(url, options), options.signal);

export async function getFloats(url, signal = undefined) {
  const headers = { Accept: "application/json, application/octet-stream" };
  return new Float32Array(await (await checked(await reach(url, { signal, headers, cache: "default" }))).arrayBuffer());
}

/** Ask for a change. An answer may bring sound along, as `samples`: its length, the JSON, 32-bit floats. */
export async function post(url, body) {
  const headers = { "Content-Type": "application/json", "X-CSRFToken": token };
  const response = await checked(await reach(url, { method: "POST", headers, body: JSON.stringify(body) }));
  if (response.headers.get("Content-Type") === "application/json") return response.json();
  const bytes = await response.arrayBuffer();
  const length = new DataView(bytes).getUint32(0, true);
  const answer = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 4, length)));
  return { ...answer, samples: new Float32Array(bytes, 4 + length) };
}

/** Upload one file with progress from 0 to 1. */
export function upload(url, file, progress, beside = []) {
  return new Promise((done, failed) => {
    const request = new XMLHttpRequest();
    const form = new FormData();
    form.append("file", file, file.name);
    for (const name of beside) form.append("beside", name);
    request.open("POST", url);
    request.setRequestHeader("X-CSRFToken", token);
    request.upload.onprogress = (event) => progress(event.loaded / Math.max(event.total, 1));
    request.onerror = () => failed(new Refused(0, "the upload broke off; try again"));
    request.onload = () => {
      if (request.status < 300) return done(null);
      let message = `the server answered ${request.status}`;
      try {
        message = JSON.parse(request.responseText).message;
      } catch {
        // Not one of ours: the status has to do.
      }
      failed(new Refused(request.status, message));
    };
    request.send(form);
  });
}
