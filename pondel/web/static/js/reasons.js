// Why a computed move began as it did, kept beside its chain.
import { state } from "./state.js";

const nameOf = (move) => `pondel-reasons-${state.facts.id}-${move}`;

export function keepReasons(said) {
  if (said?.reasons?.length) localStorage.setItem(nameOf(said.move), JSON.stringify(said.reasons));
}

export function showReasons(stage) {
  const box = stage.querySelector("[data-reasons]");
  const kept = box && localStorage.getItem(nameOf(box.dataset.reasons));
  if (!kept) return;
  for (const reason of JSON.parse(kept)) {
    const line = document.createElement("p");
    line.className = "mt-1";
    line.textContent = reason;
    box.append(line);
  }
  box.hidden = false;
}
