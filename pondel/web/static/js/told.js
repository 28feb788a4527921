// One polite line that says what happened, beside what is saved; a refusal stands beside its control.
let timer = 0;
const STAYS_MS = 6000;

/** Say what happened: once, without taking the focus. @param {string} words */
export function told(words) {
  const line = document.getElementById("told");
  if (!line) return;
  clearTimeout(timer);
  // The same words again are news too.
  line.textContent = "";
  timer = setTimeout(() => {
    line.textContent = words;
    line.title = words;
    timer = setTimeout(() => (line.textContent = ""), STAYS_MS);
  }, 30);
}

const HINTS = {
  Hz: "such as 120, 1.2k or A1",
  dB: "such as −6 or −6 dB",
  dBFS: "such as −30 or −30 dB",
  ms: "such as 90, 250 us or 1/8",
  s: "such as 1.5, 90 ms or 1/4",
  "%": "such as 40 %",
  ":1": "such as 4:1",
};

/**
 * A message beside the control that was refused, tied to it, with what could be typed there.
 * @param {HTMLElement} field @param {string} message @param {string} unit
 */
export function refuse(field, message, unit = "") {
  accept(field);
  const box = document.createElement("p");
  box.className = "refusal";
  box.id = `refused-${field.id}`;
  box.setAttribute("role", "alert");
  const hint = HINTS[unit] && !message.includes("such as") ? `; ${HINTS[unit]}` : "";
  box.textContent = `${message}${hint}`;
  (field.closest(".control") ?? field).after(box);
  field.setAttribute("aria-invalid", "true");
  field.setAttribute("aria-describedby", box.id);
}

/** What was refused is turned to again, or holds now. @param {HTMLElement} field */
export function accept(field) {
  document.getElementById(`refused-${field.id}`)?.remove();
  field.removeAttribute("aria-invalid");
  if (field.getAttribute("aria-describedby")?.startsWith("refused-")) field.removeAttribute("aria-describedby");
}
