// Files on their way to the server, each with its own progress.
import { say, upload } from "./api.js";
import { show } from "./again.js";

const AT_ONCE = 2;
/** Of so many files the server is told the names beside each other, to find what they share. */
const NAMES_TOLD = 200;
const queue = [];
let running = 0;
let sent = { files: 0, bytes: 0, of: 0, ofBytes: 0, begun: 0 };

/** How far the sending is, in one line with a way to stop it. */
function tellSending() {
  const line = document.getElementById("sending");
  if (!line) return;
  line.hidden = !running && !queue.length;
  if (line.hidden) return;
  const seconds = (performance.now() - sent.begun) / 1000;
  const left = sent.bytes ? (seconds / sent.bytes) * (sent.ofBytes - sent.bytes) : null;
  line.querySelector("strong").textContent = `Sending ${sent.files} of ${sent.of} files`;
  line.querySelector("span").textContent = left == null ? "" : `about ${Math.max(1, Math.round(left))} s left`;
  line.querySelector("button").onclick = () => {
    for (const { line: row } of queue.splice(0)) row.item.remove();
    tellSending();
  };
}

function lineFor(file) {
  const item = document.createElement("li");
  item.className = "flex items-center gap-3";
  const name = document.createElement("span");
  name.className = "w-[220px] truncate font-semibold";
  name.textContent = file.name;
  const bar = document.createElement("progress");
  bar.max = 1;
  bar.value = 0;
  bar.setAttribute("aria-label", `${file.name}, upload`);
  const holder = document.createElement("span");
  holder.className = "w-[200px]";
  holder.append(bar);
  const words = document.createElement("span");
  words.className = "grow text-soft";
  words.textContent = "waiting to be sent";
  item.append(name, holder, words);
  document.getElementById("uploads")?.append(item);
  return { item, bar, words };
}

async function next() {
  if (running >= AT_ONCE || !queue.length) return;
  running++;
  const { file, url, line, beside } = queue.shift();
  line.words.textContent = "sending";
  tellSending();
  try {
    await upload(url, file, (share) => (line.bar.value = share), beside);
    line.item.remove();
  } catch (error) {
    line.bar.remove();
    line.words.textContent = error.message;
    line.words.className = "wrong grow";
  }
  running--;
  sent.files++;
  sent.bytes += file.size;
  tellSending();
  if (queue.length) next();
  else if (!running) await refresh();
}

/** Show what has arrived, keeping the messages of refused uploads. */
async function refresh() {
  const refused = [...(document.getElementById("uploads")?.children ?? [])];
  const list = document.getElementById("arrivals");
  if (list) await show(list);
  document.getElementById("uploads")?.append(...refused);
}

function take(files, url) {
  if (!running && !queue.length) sent = { files: 0, bytes: 0, of: 0, ofBytes: 0, begun: performance.now() };
  const beside = [...files].slice(0, NAMES_TOLD).map((file) => file.name);
  for (const file of files) {
    sent.of++;
    sent.ofBytes += file.size;
    queue.push({ file, url, beside, line: lineFor(file) });
  }
  for (let i = 0; i < AT_ONCE; i++) next();
}

/** All files of a drop, those in folders too. */
async function dropped(transfer) {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean);
  if (!entries.length) return [...transfer.files];
  const files = [];
  const walk = async (entry) => {
    if (entry.isFile) files.push(await new Promise((done, failed) => entry.file(done, failed)));
    else {
      const reader = entry.createReader();
      for (;;) {
        const some = await new Promise((done, failed) => reader.readEntries(done, failed));
        if (!some.length) break;
        for (const one of some) await walk(one);
      }
    }
  };
  for (const entry of entries) await walk(entry);
  return files.sort((a, b) => a.name.localeCompare(b.name));
}

/** Mark a place while files are held over it, and take what is dropped there. */
function onDrop(place, use) {
  place.ondragover = (event) => {
    event.preventDefault();
    place.classList.add("over");
  };
  place.ondragleave = () => place.classList.remove("over");
  place.ondrop = async (event) => {
    event.preventDefault();
    place.classList.remove("over");
    use(await dropped(event.dataTransfer));
  };
}

/** A file chosen, or dropped on a part's row, takes the place of the part's recording. */
function wireReplacing(root, url) {
  const replace = (part, files) => {
    if (files.length > 1) return say("One file takes the place of a recording: drop a single one.");
    take(files, `${url}?${new URLSearchParams({ replaces: part })}`);
  };
  const chosen = root.querySelector("input[data-replaces]");
  if (chosen) {
    chosen.onchange = () => {
      replace(chosen.dataset.replaces, [...chosen.files]);
      chosen.value = "";
    };
  }
  for (const row of root.querySelectorAll("tr[data-replaces]")) {
    if (!row.dataset.replaces) continue;
    onDrop(row, (files) => replace(row.dataset.replaces, files));
  }
}

/** Scroll the table so far that a row is seen, and nothing around it. @param {?Element} row */
function bringIntoSight(row) {
  const box = row?.closest(".many-rows");
  if (!row || !box) return;
  const below = row.getBoundingClientRect().bottom - box.getBoundingClientRect().bottom;
  if (below > 0) box.scrollTop += below;
}

export function wire(root) {
  const drop = root.querySelector("#drop");
  if (!drop) return;
  const url = drop.dataset.upload;
  wireReplacing(root, url);
  bringIntoSight(root.querySelector(".many-rows tr.on"));
  drop.querySelector("#files").onchange = (event) => {
    take([...event.target.files], url);
    event.target.value = "";
  };
  drop.onsubmit = (event) => event.preventDefault();
  onDrop(drop, (files) => take(files, url));
}
