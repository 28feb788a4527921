import js from "@eslint/js";

const browser = [
  "AbortController", "AudioContext", "CSS", "CustomEvent", "DOMException", "DOMParser", "DataView", "Element", "Event", "EventTarget",
  "FormData", "HTMLElement", "HTMLFormElement", "HTMLInputElement", "IntersectionObserver", "ResizeObserver", "TextDecoder", "URL", "URLSearchParams",
  "XMLHttpRequest", "clearInterval", "clearTimeout", "confirm", "console", "devicePixelRatio", "document", "fetch", "getComputedStyle",
  "history", "localStorage", "location", "matchMedia", "performance", "requestAnimationFrame", "setInterval", "setTimeout", "window",
];

export default [
  js.configs.recommended,
  {
    languageOptions: { globals: Object.fromEntries(browser.map((name) => [name, "readonly"])) },
    rules: { eqeqeq: ["error", "always", { null: "ignore" }], "no-var": "error", "prefer-const": "error" },
  },
];
